motto = { text = "they say "never" here" }
