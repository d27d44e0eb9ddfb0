boats = { "Gull", "Tern" ]
