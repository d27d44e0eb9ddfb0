crew = { pay = 3 }
