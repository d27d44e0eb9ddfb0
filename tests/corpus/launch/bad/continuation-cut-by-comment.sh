#!/bin/sh
exec gullwind-server \
  # boats
  --slots 16
