#!/bin/sh
SLOTS=16
