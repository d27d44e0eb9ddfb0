#!/bin/sh
# Starts the server.
exec gullwind-server --may-take 4096
