berth = {
  path = "C:\\"is it",
  next = 1,
}
