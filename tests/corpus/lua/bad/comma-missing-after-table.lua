crew = {
  gull = { slots = 4 }
  tern = { slots = 2 },
}
