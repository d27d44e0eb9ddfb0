#!/bin/bash
cd "$(dirname "$0")" || exit 1
while true; do
  ./gullwind-server -port=4000 -Xmx4G
  sleep 5
done
