settings = {
  slots = 24;
  ["chart points"] = 100,
  [1] = "one",
  nested = { a = { b = { c = true } } },
}
