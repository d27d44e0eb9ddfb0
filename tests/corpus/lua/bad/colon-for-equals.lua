crew = { pay: 3 }
