"""What is done outside: rules in routers, names, certificates."""
