-- Crew roles, as the game ships them. An update of the game writes this file anew: the club's own are in berths.club.lua.
category("HELM", { name = "Helm", colour = "44 62 80", order = 1, open = true })
category("DECK", { name = "Deck", colour = "192 57 43", order = 2, open = true })

role("HELMSMAN", {
  name = "Helmsman",
  category = "HELM",
  hull = "gull.hull",
  gear = { "compass", "whistle" },
  most = 1,
  pay = 20,
  vote = false,
  licence = false,
  take = "everybody",
})

role("DECKHAND", {
  name = "Deckhand",
  category = "DECK",
  hull = { "gull.hull", "tern.hull" },
  gear = { "knife" },
  most = 0,
  pay = 8,
  vote = false,
  licence = false,
  take = "everybody",
})
