// crew
crew = { pay = 3 }
