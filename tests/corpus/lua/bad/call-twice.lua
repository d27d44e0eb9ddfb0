role("MARSHAL", { pay = 3 })
role("MARSHAL", { pay = 4 })
