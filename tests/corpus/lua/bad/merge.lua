<<<<<<< ours
pay = 3
=======
pay = 4
>>>>>>> theirs
