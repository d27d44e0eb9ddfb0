crew = { pay = 3, colour = "red", pay = 4 }
