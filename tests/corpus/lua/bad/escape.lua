charts = { path = "C:\gulls" }
