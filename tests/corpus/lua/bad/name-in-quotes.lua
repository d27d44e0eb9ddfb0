crew = { "pay" = 3 }
