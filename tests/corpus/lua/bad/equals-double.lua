crew = {
  pay == 3,
  x = {
}
