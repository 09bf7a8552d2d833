"""Commands that do something outside: rules in routers, names, certificates."""
