crew = { pay = 3 }
# the end
