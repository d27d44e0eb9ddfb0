crew = { pay = 3 }
--[[ more to come
