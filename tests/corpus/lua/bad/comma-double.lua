boats = { "Gull",, "Tern" }
