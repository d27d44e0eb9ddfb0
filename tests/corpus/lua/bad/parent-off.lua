role("MARSHAL", {
  -- rights = {
    "start", "stop",
  },
})
