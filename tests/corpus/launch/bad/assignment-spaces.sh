#!/bin/sh
SLOTS = 16
exec gullwind-server --slots $SLOTS
