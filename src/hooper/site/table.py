"""The base of all tables of the site file."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Table(BaseModel):
    """Base of all tables: unknown keys are mistakes, values do not change.

    Building is deferred, so that the whole is built once and not each table for itself: that halves the start.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, arbitrary_types_allowed=True, defer_build=True)
