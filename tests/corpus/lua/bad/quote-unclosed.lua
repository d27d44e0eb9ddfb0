role("MARSHAL", {
  colour = "red,
  pay = 3,
})
