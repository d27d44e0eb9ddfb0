"""The commands for the timetable."""
