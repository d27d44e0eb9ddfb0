-- Crew roles, by category.
category("HELM", { colour = "#2c3e50", limit = 1 })
category("DECK", { colour = "#c0392b", limit = 6 })

role("HELMSMAN", {
  category = "HELM",
  boats = { "gull", "tern" },
  when = function(sailor) return sailor.level >= 3 end,
})

role("DECKHAND", {
  category = "DECK",
  boats = { "gull", "tern", "skua" },
})
