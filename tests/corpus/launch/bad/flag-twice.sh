#!/bin/sh
exec gullwind-server --slots 16 --tide spring --slots 24
