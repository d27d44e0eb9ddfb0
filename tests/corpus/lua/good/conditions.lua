crate { chance = tide > 2 and 0.5 or 0.1, open = not locked, size = #boats * 2 }
