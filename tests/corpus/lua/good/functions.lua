function hello(name)
  if name == "Wren" then
    print("aboard")
  end
end
x = { 1, 2 }
