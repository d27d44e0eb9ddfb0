role("MARSHAL" { pay = 3 }, 2)
