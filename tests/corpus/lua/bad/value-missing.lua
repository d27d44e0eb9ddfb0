crew = { pay = , colour = "red" }
