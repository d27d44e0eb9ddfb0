texts = {
  'single', "double", [[long
text]], [==[with ]] inside]==], "esc \" \\ \n \065",
}
