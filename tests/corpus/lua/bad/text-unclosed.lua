motto = [[fair winds
crew = { pay = 3 }
