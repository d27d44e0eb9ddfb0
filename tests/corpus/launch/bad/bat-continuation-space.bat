@echo off
gullwind.exe -port=4000 ^ 
  -slots=16
