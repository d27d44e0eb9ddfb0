#!/bin/sh
NAME ="Saltmarsh"
exec gullwind-server --name "$NAME"
