@echo off
rem Starts the server.
set SLOTS=16
start "" /b gullwind.exe -slots %SLOTS% ^
  -name "Salt Marsh"
pause
