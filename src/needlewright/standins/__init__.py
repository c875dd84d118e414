"""Stand-ins for devices and services: processes of their own behind real sockets, as slow, broken
and stubborn as the real ones. Nothing in the core knows of them."""
