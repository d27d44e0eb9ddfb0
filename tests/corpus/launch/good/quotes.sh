#!/bin/sh
exec gullwind-server --motto 'it is "fair"' --name "harbour's best"
