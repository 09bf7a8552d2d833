"""Parts that other packages add, by entry points: drivers of routers, publishers of names, kinds of tunnel, readers of
saved pages. Ours come first; packages are looked at only where a name is none of ours.

Such a part is never trusted to keep its word: what it raises, and what it gives back that is of no use, is an error
in words that names the part and its package.
"""

from __future__ import annotations

import inspect
from collections.abc import Iterator, Mapping
from functools import cache
from typing import TYPE_CHECKING, Any, Literal

from hooper.errors import HooperError, MachineError

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint

Group = Literal["hooper.drivers", "hooper.publishers", "hooper.tunnels", "hooper.pages"]


class AddedWrong(MachineError):
    """A part that another package adds cannot be used."""

    code = "added-part"
    remedy = "Update that package, or uninstall it."


@cache
def _entries(group: Group) -> dict[str, EntryPoint]:
    from importlib.metadata import entry_points  # a tenth of a start, which most sites need not spend

    return {entry.name: entry for entry in entry_points(group=group)}


def added_names(group: Group) -> tuple[str, ...]:
    """The names of the parts that packages add."""
    return tuple(_entries(group))


@cache
def added(group: Group, name: str, of: type | None = None, **has: type) -> Any:
    """A part that a package adds, kept to its word. of: its class; None: it is to be called. has: what it must have.

    Raises: KeyError: nobody adds it; AddedWrong.
    """
    entry = _entries(group)[name]
    whose = f"{name!r}, which the package {entry.dist.name if entry.dist is not None else entry.value} adds ({group}),"
    try:
        part = entry.load()
    except Exception as exc:  # whatever a stranger's module raises
        raise AddedWrong(f"{whose} cannot be loaded: {type(exc).__name__}: {exc}") from None
    if of is None and not has and not callable(part):
        raise AddedWrong(f"{whose} is nothing that can be called")
    if of is not None and not isinstance(part, of):
        raise AddedWrong(f"{whose} is no object of the class {of.__name__}")
    for one, kind in has.items():
        if not isinstance(getattr(part, one, None), kind):
            raise AddedWrong(f"{whose} has no {one} that is a {kind.__name__}")
    return KeptToIt(part, whose, {})


class KeptToIt:
    """A part, or what it gave, whose failures become words. gives: of which class the answers are, by method."""

    def __init__(self, part: Any, whose: str, gives: Mapping[str, type]) -> None:
        self._part, self._whose, self._gives = part, whose, gives

    def __getattr__(self, name: str) -> Any:
        try:
            found = getattr(self._part, name)
        except Exception as exc:
            raise self._broken(name, exc) from None
        return self._called(name, found) if callable(found) else found

    def __call__(self, *given: Any, **named: Any) -> Any:
        return self._called("it", self._part)(*given, **named)

    def giving(self, part: Any, has: tuple[str, ...], **gives: type) -> Any:
        """What it made, which is kept to its word too. Raises: AddedWrong: it lacks something."""
        lacking = [one for one in has if not hasattr(part, one)]
        if lacking:
            raise AddedWrong(f"{self._whose} made something without {', '.join(lacking)}")
        return KeptToIt(part, self._whose, gives)

    def _broken(self, name: str, exc: Exception) -> HooperError:
        return (
            exc
            if isinstance(exc, HooperError)
            else AddedWrong(f"{self._whose} failed in {name}: {type(exc).__name__}: {exc}")
        )

    def _called(self, name: str, function: Any) -> Any:
        def call(*given: Any, **named: Any) -> Any:
            try:
                got = function(*given, **named)
                if isinstance(got, Iterator):
                    return iter(list(got))
            except Exception as exc:
                raise self._broken(name, exc) from None
            return awaited(got) if inspect.isawaitable(got) else self._fitting(name, got)

        async def awaited(coming: Any) -> Any:
            try:
                got = await coming
            except Exception as exc:
                raise self._broken(name, exc) from None
            return self._fitting(name, got)

        return call

    def _fitting(self, name: str, got: Any) -> Any:
        wanted = self._gives.get(name)
        if wanted is not None and not isinstance(got, wanted):
            raise AddedWrong(f"{self._whose} gave {type(got).__name__} for {name}, not {wanted.__name__}")
        return got
