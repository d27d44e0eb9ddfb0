"""The timetable: when something is due, and what of it is done, missed or made up."""
