name = { motto = "Möwe 🚤" } -- Grüße
