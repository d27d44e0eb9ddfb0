#!/bin/sh
PORT=4000
ARGS="--port $PORT --listed"
exec ./gullwind-server $ARGS > log.txt 2>&1
