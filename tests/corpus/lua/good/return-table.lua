return {
  name = "Gull",
  boats = { "a", "b", },
}
