#!/bin/bash
ARGS=(
  --slots 16
  --name "Salt Marsh"
)
./gullwind-server "${ARGS[@]}"
