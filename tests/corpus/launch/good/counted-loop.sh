#!/bin/bash
# Tries three times, with arithmetic in every place that the shell has for it.
PORT=4530
for (( tries = 1; tries <= 3; tries++ )); do
  (( pause = tries * 5 ))
  left=$(( 3 - tries ))
  if (( left >= 0 )) && (( pause != 0 )); then
    ./gullwind-server --port "$PORT" --quiet
  fi
  echo "again in $pause s, $left tries left"
done
