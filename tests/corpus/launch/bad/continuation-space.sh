#!/bin/sh
exec gullwind-server \ 
  --slots 16
