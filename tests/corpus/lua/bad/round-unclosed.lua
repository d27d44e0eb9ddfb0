role("MARSHAL", { pay = 3 }
