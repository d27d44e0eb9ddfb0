crew = { depth = –7 }
