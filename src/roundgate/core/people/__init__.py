"""People: the ids by which a server knows them, the site's book of them, and when they were seen."""
