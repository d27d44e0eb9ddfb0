local base = require("base")
local t = { a = base.a }
return t
