"""Groups of commands for tables of the site file that have the usual verbs alone."""

from hooper.cli.parts.entity import group_of, group_of_one
from hooper.cli.prepare.forming import add_form

line = group_of("lines", "The lines to the internet, as the site file has them.")
measure = group_of_one("measure", "Whom to ask outside: STUN servers, address echoes, resolvers. Nobody else is asked.")
gateway = group_of(
    "gateways",
    "The routers, as the site file has them: which line, which addresses, what their pages can do."
    " What stands in the routers themselves: `hooper router`.",
)
add_form(gateway)
certificate = group_of(
    "certificates", "The certificates that are planned: for which names, from whom. Getting them: `hooper cert`."
)
account = group_of("accounts", "Who has which login on which device, with which rights. No password is kept.")
notice = group_of("notices", "Whom a keeper tells, and of what.")
