"""People on disk: the site's book of them, and the servers' logs in which they are seen."""
