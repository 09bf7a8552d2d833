"""What an authority sends (RFC 8555 section 7.1), as far as it is used: its form is looked at before any of it is."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from hooper.secret import excerpt

Text = Annotated[str, Field(max_length=2000)]
AT_MOST = 100  # authorizations, challenges and problems in one object; no authority has use for more


class _Object(BaseModel):
    """What else stands in it is not ours to judge."""

    model_config = ConfigDict(extra="ignore", strict=True, frozen=True)


class AcmeProblem(_Object):
    """RFC 7807, with the problems inside it (RFC 8555 section 6.7.1)."""

    type: Text = ""
    title: Text = ""
    detail: Text = ""
    subproblems: Annotated[tuple[AcmeProblem, ...], Field(strict=False, max_length=AT_MOST)] = ()

    @property
    def kind(self) -> str:
        """The last part of its type."""
        return self.type.rpartition(":")[2]

    def words(self) -> str:
        """For people."""
        said = self.detail or self.title or self.type or "no reason"
        return excerpt("; ".join([said, *(inner.words() for inner in self.subproblems[:8])]), 400)


class DirectoryMeta(_Object):
    """Section 9.7.6. profiles: by their names, what the authority says of each."""

    profiles: Annotated[dict[Text, Text], Field(max_length=AT_MOST)] = {}


class Directory(_Object):
    """Section 7.1.1."""

    newNonce: Text
    newAccount: Text
    newOrder: Text
    revokeCert: Text = ""
    keyChange: Text = ""
    renewalInfo: Text = ""
    meta: DirectoryMeta = DirectoryMeta()


class RenewalWindow(_Object):
    """RFC 9773 section 4.2: when the authority wants a certificate to be renewed."""

    start: Text
    end: Text


class RenewalInfo(_Object):
    """RFC 9773 section 4.2."""

    suggestedWindow: RenewalWindow


class OrderBody(_Object):
    """Section 7.1.3."""

    status: Text
    authorizations: Annotated[tuple[Text, ...], Field(strict=False, max_length=AT_MOST)] = ()
    finalize: Text = ""
    certificate: Text = ""
    error: AcmeProblem | None = None


class Challenge(_Object):
    """Section 8."""

    type: Text
    url: Text = ""
    token: Text = ""
    error: AcmeProblem | None = None


class Identifier(_Object):
    """Section 9.7.7."""

    type: Text = "dns"
    value: Text


class Authorization(_Object):
    """Section 7.1.4."""

    status: Text
    identifier: Identifier
    challenges: Annotated[tuple[Challenge, ...], Field(strict=False, max_length=AT_MOST)] = ()
    wildcard: bool = False

    @property
    def name(self) -> str:
        """The name that is proven."""
        return f"*.{self.identifier.value}" if self.wildcard else self.identifier.value
