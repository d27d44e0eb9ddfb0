crew = {
  gull = {
    slots = 4,
  tern = 2,
}
