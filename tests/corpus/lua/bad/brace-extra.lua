crew = { pay = 3 }}
