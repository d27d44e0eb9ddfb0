"""The timetable of a site: its table in the site file, what became of each moment, and carrying it out."""
