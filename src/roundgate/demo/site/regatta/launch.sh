#!/bin/sh
# Starts the Gullwind server in this folder. The machine grants it 4 GB.
PATH="@BIN@:$PATH"
REGION="north"
exec gullwind-server --may-take 4096 --hold 4096 --region "$REGION"
