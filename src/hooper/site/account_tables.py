"""The table of logins on devices: who has which, with which rights (pydantic). No password is ever kept."""

from datetime import date
from typing import Annotated, Literal

from pydantic import Field, StrictBool

from hooper.site.fields import Key
from hooper.site.table import Table

Right = Literal["look", "use", "tunnel", "administer"]


class Account(Table):
    """[accounts.KEY]: a login on a device. Its password is kept nowhere here.

    host: on which device. user: what is typed at login. person: who has it. since: from which day on.
    """

    host: Key
    user: Annotated[str, Field(min_length=1, max_length=100)]
    person: Annotated[str, Field(min_length=1)] | None = None
    rights: tuple[Right, ...] = Field(
        ("use",), description="look: sees; use: changes its own; tunnel: may come in by it; administer: everything."
    )
    needs: tuple[Right, ...] = Field((), description="What the person needs of these; left out: all of them.")
    second_factor: StrictBool | None = Field(None, description="Its login asks for a second factor.")
    since: date | None = None
    until: date | None = Field(None, description="The last day on which the person needs it.")
