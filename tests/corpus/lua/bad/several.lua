role("MARSHAL", {
  pay = 3
  colour: "red",
})
