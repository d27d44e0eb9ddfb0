#!/bin/sh
SLOTS=16
exec gullwind-server \
  --slots "$SLOTS" \
  --tide spring \
  "-mods=reef;mile"
