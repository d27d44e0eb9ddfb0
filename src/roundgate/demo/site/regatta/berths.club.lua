-- The club's crew roles. What is here counts before the game's own, and no update touches it.
category("HELM", { name = "Helm", colour = "44 62 80", order = 1, open = true })
category("DECK", { name = "Deck", colour = "192 57 43", order = 2, open = true })
category("WATCH", { name = "Race watch", colour = "243 156 18", order = 3, open = false, seen = "officers" })

role("HELMSMAN", {
  name = "Helmsman",
  category = "HELM",
  hull = "gull.hull",
  gear = { "compass", "whistle", "chart" },
  most = 1,
  pay = 25,
  vote = false,
  licence = true,
  take = function(sailor) return sailor.level >= 3 end,
})

role("DECKHAND", {
  name = "Deckhand",
  category = "DECK",
  hull = { "gull.hull", "tern.hull" },
  gear = { "knife" },
  most = 0,
  pay = 10,
  vote = false,
  licence = false,
  take = "everybody",
})

role("RACEWARDEN", {
  name = "Race warden",
  category = "WATCH",
  hull = "launch.hull",
  gear = { "whistle", "flag", "radio" },
  most = 2,
  pay = 15,
  vote = true,
  licence = true,
  take = "officers",
})
