category("DECK", { limit = 6 }

role("HAND", {
  pay = 1,
})
