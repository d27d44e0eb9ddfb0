#!/bin/sh
cat > note.txt <<END
x = 1
  --not a flag
END
exec ./gullwind-server --port 4000
