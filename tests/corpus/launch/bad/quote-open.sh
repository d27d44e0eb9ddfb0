#!/bin/sh
exec gullwind-server --name "Saltmarsh
