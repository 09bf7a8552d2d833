"""What each kind of browser and app says about a chain, and why. Pure.

Sources: names RFC 9525; lives of what public authorities issue, CA/Browser Forum baseline requirements section 6.3.2;
what phones of one maker want besides, its published requirements of 2019 for certificates of servers.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Literal

from hooper.certs.inspect import is_for, names_of, reaches_root
from hooper.certs.problems import ABSENT, EXPIRED, NOT_YET, OTHER_NAME, UNTRUSTED
from hooper.words.said import Said, say, together

if TYPE_CHECKING:
    from cryptography import x509

Client = Literal["browser", "app", "apple", "told-of-root"]
SHORT, LONG, WEAK_KEY, WEAK_DIGEST = "chain-short", "life-too-long", "key-weak", "digest-weak"
BEYOND = "beyond-its-authority"
PURPOSE, NO_NAMES = "not-for-servers", "names-in-subject-alone"
# issued from that day on, a certificate of a public authority lasts that many days at most
LIVES = (
    (datetime(2029, 3, 15, tzinfo=UTC), 47),
    (datetime(2027, 3, 15, tzinfo=UTC), 100),
    (datetime(2026, 3, 15, tzinfo=UTC), 200),
    (datetime(2020, 9, 1, tzinfo=UTC), 398),
    (datetime(2018, 3, 1, tzinfo=UTC), 825),
)
APPLE_DAYS, APPLE_SINCE = 825, datetime(2019, 7, 1, tzinfo=UTC)
RSA_BITS = 2048
WORDS: dict[str, Said] = {
    ABSENT: say("client-self-made"),
    EXPIRED: say("client-ended"),
    NOT_YET: say("client-early"),
    OTHER_NAME: say("client-other-name"),
    UNTRUSTED: say("client-unknown"),
    SHORT: say("client-chain-short"),
    LONG: say("client-life-too-long"),
    WEAK_KEY: say("client-key-weak"),
    WEAK_DIGEST: say("client-digest-weak"),
    PURPOSE: say("client-not-for-servers"),
    NO_NAMES: say("client-no-names"),
    BEYOND: say("client-beyond"),
}


@dataclass(frozen=True, slots=True)
class ClientWord:
    """What one kind of client says when it is led there by one address.

    client: browser; app: one that uses the phone's or the system's roots, and has no button to go on; apple: browsers
    and apps of phones, tablets and computers of that maker; told-of-root: any that was given the site's own root.
    typed: what was typed. takes: it goes on without a warning. problems: codes of what it has against it. says: in
    words.
    """

    client: Client
    typed: str
    takes: bool
    problems: tuple[str, ...]
    says: Said


def clients_say(
    chain: Sequence[x509.Certificate],
    typed: Sequence[tuple[str, str]],
    usual: Sequence[x509.Certificate],
    own: Sequence[x509.Certificate],
    now: datetime,
) -> list[ClientWord]:
    """What each client says of a chain, its own first. typed: what is typed, and the name or address in that.

    usual: the roots that everybody knows. own: those of the site; empty: it has none.
    """
    kinds: list[tuple[Client, Sequence[x509.Certificate]]] = [("browser", usual), ("app", usual), ("apple", usual)]
    if own:
        kinds.append(("told-of-root", [*usual, *own]))
    return [_word(client, roots, chain, text, name, usual, now) for client, roots in kinds for text, name in typed]


def _word(
    client: Client,
    roots: Sequence[x509.Certificate],
    chain: Sequence[x509.Certificate],
    text: str,
    name: str,
    usual: Sequence[x509.Certificate],
    now: datetime,
) -> ClientWord:
    found = tuple(dict.fromkeys(_problems(client, roots, chain, name, usual, now)))
    # a browser loads what is missing of a chain by itself, as a rule; that alone is no warning there
    takes = not found or (client == "browser" and found == (SHORT,))
    against = together([WORDS[code] for code in found], "; ")
    says = say("client-takes-it") if not found else against if takes else say("client-warns", why=against)
    return ClientWord(client, text, takes, found, says)


def _problems(
    client: Client,
    roots: Sequence[x509.Certificate],
    chain: Sequence[x509.Certificate],
    name: str,
    usual: Sequence[x509.Certificate],
    now: datetime,
) -> Iterator[str]:
    leaf = chain[0]
    self_made = leaf.subject == leaf.issuer and leaf not in roots
    if self_made:
        yield ABSENT
    if now > leaf.not_valid_after_utc:
        yield EXPIRED
    elif now < leaf.not_valid_before_utc:
        yield NOT_YET
    names = names_of(leaf)
    if not names:
        yield NO_NAMES
    elif not is_for(names, name):
        yield OTHER_NAME
    trusted = reaches_root(chain, roots, now)
    if not self_made and not trusted:
        beyond = reaches_root(chain, roots, now, bound=False)
        yield BEYOND if beyond else SHORT if _lacks_link(chain) else UNTRUSTED
    life = leaf.not_valid_after_utc - leaf.not_valid_before_utc
    if (
        reaches_root(chain, usual, now) and (most := _most_days(leaf)) is not None and life > timedelta(days=most + 1)
    ) or (client == "apple" and leaf.not_valid_before_utc >= APPLE_SINCE and life > timedelta(days=APPLE_DAYS)):
        yield LONG
    yield from _of_key(leaf)
    if not _for_servers(leaf, wants=client == "apple"):
        yield PURPOSE


def _lacks_link(chain: Sequence[x509.Certificate]) -> bool:
    """Whether the server shows its own certificate alone, which says where that of its issuer is to be had."""
    from cryptography import x509
    from cryptography.x509.oid import AuthorityInformationAccessOID

    if len(chain) > 1:
        return False
    try:
        found = chain[0].extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
    except (x509.ExtensionNotFound, ValueError):
        return False
    return any(one.access_method == AuthorityInformationAccessOID.CA_ISSUERS for one in found)


def _most_days(leaf: x509.Certificate) -> int | None:
    return next((days for since, days in LIVES if leaf.not_valid_before_utc >= since), None)


def _of_key(leaf: x509.Certificate) -> Iterator[str]:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey

    key = leaf.public_key()
    if isinstance(key, RSAPublicKey) and key.key_size < RSA_BITS:
        yield WEAK_KEY
    if leaf.signature_hash_algorithm is not None and leaf.signature_hash_algorithm.name in ("md5", "sha1"):
        yield WEAK_DIGEST


def _for_servers(leaf: x509.Certificate, *, wants: bool) -> bool:
    """Whether it may be shown by a server (RFC 5280 section 4.2.1.12). wants: it has to say so."""
    from cryptography import x509
    from cryptography.x509.oid import ExtendedKeyUsageOID

    try:
        usage = leaf.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
    except x509.ExtensionNotFound:
        return not wants or leaf.not_valid_before_utc < APPLE_SINCE
    except ValueError:
        return False
    return ExtendedKeyUsageOID.SERVER_AUTH in usage or ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE in usage
