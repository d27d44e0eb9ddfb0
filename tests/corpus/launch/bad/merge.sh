#!/bin/sh
<<<<<<< ours
exec gullwind-server --slots 16
=======
exec gullwind-server --slots 24
>>>>>>> theirs
