@echo off
gullwind.exe -slots 16 -slots 24
