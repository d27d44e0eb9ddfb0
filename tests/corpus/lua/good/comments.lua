--[[ a block
comment ]]
x = { -- trailing
  a = 1, --[[ inline ]] b = 2,
}
