-- Crew roles.
role("MARSHAL", {
  pay = 3,
  colour = "#c0392b",
  rights = { "start", "stop" },
  when = function(crew) return crew.rank > 2 end,
})

role("DECKHAND", { pay = 1 })
