
#!/bin/sh
exec gullwind-server
