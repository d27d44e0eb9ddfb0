#!/bin/sh
nohup ./gullwind-server --port 4000 &
