boats = { "Gull" "Tern" }
