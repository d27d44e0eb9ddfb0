crew = { pay 3 }
