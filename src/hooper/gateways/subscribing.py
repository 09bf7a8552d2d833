"""Being told by routers of what changes there, by subscription to the events of their connection service."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress

import anyio

from hooper.errors import HooperError
from hooper.gateways.find import find_routers
from hooper.gateways.igd import Igd
from hooper.net.acceptor import Guest, accept_all
from hooper.net.plain_http import Url, ask
from hooper.net.types import Door, Endpoint, Listener
from hooper.net.whereabouts import connected_surroundings, standing
from hooper.site.model import Site
from hooper.wire import gena

SEARCH_S, REQUEST_S, VISIT_S = 4.0, 3.0, 5.0  # seconds
VISITS = 8  # connections at once; a site has a router or two that tell something
Told = Callable[[str, Mapping[str, str]], None]  # the gateway, and its variables


async def follow(here: Door, site: Site, gateways: Sequence[str], told: Told) -> None:
    """Be told until a subscription ends that cannot be renewed; at once where no router offers any.

    What comes is only a reason to look: who sends it cannot be told. Raises: HooperError.
    """
    place = standing(site, await connected_surroundings(here))
    found = await find_routers(here, site, gateways, SEARCH_S)
    offered = {key: router.events for key, router in found.routers.items() if isinstance(router, Igd) and router.events}
    if not offered or place.address is None or place.interface is None:
        return
    door = here.through(place.interface)
    async with await door.listen(Endpoint(place.address, 0)) as listener, anyio.create_task_group() as tasks:
        paths = {f"/{key}": key for key in offered}
        tasks.start_soon(_visited, listener, paths, told)
        for path, key in paths.items():
            tasks.start_soon(_subscribed, door, offered[key], f"http://{listener.local}{path}", tasks.cancel_scope)


async def _subscribed(door: Door, url: Url, callback: str, all_of_them: anyio.CancelScope) -> None:
    """Subscribe, renew at half of what was granted, and take it back at the end."""
    name = ""
    try:
        fields = gena.subscribe_fields(callback)
        while True:
            answer = await ask(door, url, REQUEST_S, method="SUBSCRIBE", fields=fields)
            granted = gena.parse_granted(answer.head)
            name, fields = granted.name, gena.renew_fields(granted.name)
            await door.clock.sleep(granted.lasts_s / 2)
    except HooperError:
        name = ""
        all_of_them.cancel()
    finally:
        if name:
            with anyio.move_on_after(1.0, shield=True), suppress(HooperError):
                await ask(door, url, 1.0, method="UNSUBSCRIBE", fields=(("SID", name),))


async def _visited(listener: Listener, paths: Mapping[str, str], told: Told) -> None:
    """Take what routers tell at a port of ours. The path tells which of them, as far as it is not made up."""

    async def served(guest: Guest) -> None:
        with anyio.move_on_after(VISIT_S):
            data = b""
            while not gena.is_whole(data):
                data += await guest.receive()
            said = gena.parse_told(data)
            if said.path in paths:
                told(paths[said.path], said.variables)
            await guest.send(gena.serialize_taken())

    await accept_all(listener, served, at_once=VISITS)
