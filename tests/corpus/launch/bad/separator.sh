#!/bin/sh
exec gullwind-server -courses=reef;mile
