"""The certificates and keys in an OpenVPN profile: whether they are there, fit, and are good today. Pure."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from hooper import deeds
from hooper.certs.inspect import key_fingerprint, load_pem, public_text, signed_by
from hooper.errors import WireError
from hooper.tunnels.look import Flaw
from hooper.tunnels.openvpn_allowed import is_plain
from hooper.tunnels.openvpn_look import OpenVpnLook, common_name, may_be
from hooper.wire.openvpn import parse_client_key, parse_static_key
from hooper.wire.ovpnfile import FILES

if TYPE_CHECKING:
    from cryptography import x509

BLOCK = re.compile(r"-----BEGIN ([A-Z0-9 ]+)-----\n[^<>]*?-----END \1-----")
PLAIN = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.-]*")
INSIDE = ("ca", "cert", "extra-certs", "key", "tls-auth", "tls-crypt", "tls-crypt-v2")
PARSERS = {"tls-auth": parse_static_key, "tls-crypt": parse_static_key, "tls-crypt-v2": parse_client_key}


def files(look: OpenVpnLook) -> None:
    """Files that it names and does not bring. A phone takes one file: what lies beside it is put inside, where a person
    has asked for that by its name, and only as far as it is what the option needs.
    """
    for option in look.file.options:
        if option.name not in FILES or not option.words or option.word(0) == "[inline]":
            continue
        if option.name in ("dh", "crl-verify") and (look.is_server or option.word(0) == "none"):
            continue
        name = option.word(0)
        if not is_plain(name) and not look.is_server:
            continue  # told as what leads elsewhere
        text = look.beside.get(name)
        if look.file.inline(option.name) is not None:
            look.drop("file-missing", option, f"it has {option.name} inside, and names the file {name} too")
        elif text is None:
            message = f"it names the file {name} for `{option.name}`, which is not beside it"
            look.tell("file-missing", option.line, message, "Bring that file too, or export it with all inside.")
        elif not look.is_server and option.name in INSIDE:
            body = look.file.newline.join(fitting(look, option.name, text).splitlines())
            if not body:
                message = f"{name} beside it is not what `{option.name}` needs, so that it is left where it is"
                look.tell("file-missing", option.line, message, "Look what it is; then export with all inside.")
                continue
            if name not in look.take_in:
                said = name if PLAIN.fullmatch(name) else "FILE"  # others chose the name
                message = f"it needs the file {name} beside it, and phones take one file"
                look.tell(
                    "file-beside", option.line, message, f"Look what it is; {deeds.TAKE_IN(said)} puts it inside."
                )
                continue
            inside = look.file.newline.join((f"<{option.name}>", body, f"</{option.name}>", ""))
            if option.name == "tls-auth" and option.word(1) in ("0", "1"):
                inside = f"key-direction {option.word(1)}{look.file.newline}{inside}"
            message = f"it needs the file {name} beside it, and phones take one file"
            words = f"{name} is put inside"
            edits = ((option.start, option.end, inside),)
            look.faults.append(Flaw("file-beside", option.line, message, "Put it inside.", words, edits))


def fitting(look: OpenVpnLook, option: str, text: str) -> str:
    """That part of a file's text that is what the option needs, and nothing else of it; empty: it is not that."""
    if option in PARSERS:
        try:
            PARSERS[option](text)
        except WireError:
            return ""
        found = re.search(r"-+BEGIN OpenVPN [^\n]*?-+\n.*?-+END OpenVPN [^\n]*", text, re.DOTALL)
        return found[0].strip() if found is not None else ""
    blocks = [one[0] for one in BLOCK.finditer(text)]
    if option == "key":
        own = [one for one in blocks if "PRIVATE KEY" in one.partition("\n")[0] and "OPENSSH" not in one]
        fits = len(own) == 1 and look.own is not None and public_text(own[0]) in ("", key_fingerprint(look.own))
        return own[0] if fits and ("ENCRYPTED" in own[0] or public_text(own[0])) else ""
    certified = [one for one in blocks if one.startswith("-----BEGIN CERTIFICATE-----")]
    try:
        return "\n".join(certified) if certified and load_pem("\n".join(certified).encode()) else ""
    except ValueError:
        return ""


def certificates(look: OpenVpnLook) -> None:
    """The authority, its own certificate, and the key for that."""
    if look.file.has("secret"):
        return
    _present(look)
    _guard(look)
    if look.text_of("ca") is not None:
        if not look.authorities:
            look.tell("key-malformed", look.line_of("ca"), "its `ca` is no certificate", "Export it again.")
        for one in look.authorities:
            _dates(look, one, "ca", "the authority")
            _strength(look, one, "ca", "the authority")
        known = {key_fingerprint(one) for one in look.authorities}
        right = look.tunnel.public_key if look.tunnel is not None else None
        if right is not None and look.authorities and right not in known:
            message = f"its authority is not that of {look.tunnel_key}: it would not take the server's certificate"
            look.tell("key-other-server", look.line_of("ca"), message, _new_one(look))
    own = look.own
    if look.text_of("cert") is not None and own is None:
        look.tell("key-malformed", look.line_of("cert"), "its `cert` is no certificate", "Export it again.")
    if own is None:
        return
    _dates(look, own, "cert", "its certificate")
    _strength(look, own, "cert", "its certificate")
    if look.authorities and not any(signed_by(own, one) or own == one for one in look.authorities):
        message = f"its certificate ({common_name(own)}) is not of the authority that it has: the server refuses it"
        look.tell("key-unknown", look.line_of("cert"), message, _new_one(look))
    _purpose(look, own)
    _key(look, own)
    if look.peer is not None and look.peer.public_key is not None and look.peer.public_key != key_fingerprint(own):
        message = f"its certificate is not the one that the site file has for {look.peer_key}"
        look.tell("key-unknown", look.line_of("cert"), message, _new_one(look))


def _present(look: OpenVpnLook) -> None:
    """What nothing connects without."""
    if look.file.has("pkcs12"):
        return
    if not any(look.file.has(name) for name in ("ca", "capath", "peer-fingerprint")):
        message = "it has no authority (`ca`), so that it knows no server"
        look.tell("profile-incomplete", 0, message, "Export it again, with its certificates.")
    if not look.is_server and not look.file.has("cert") and not look.file.has("auth-user-pass"):
        message = "it has neither a certificate nor asks for a user"
        look.tell("profile-incomplete", 0, message, "Export it again, for this device.")
    elif look.file.has("cert") and not look.file.has("key"):
        look.tell("profile-incomplete", look.line_of("cert"), "the key of its certificate is missing", _new_one(look))


def _guard(look: OpenVpnLook) -> None:
    """The key that all share."""
    for name, parser in PARSERS.items():
        text = look.text_of(name)
        if text is None:
            continue
        try:
            parser(text)
        except WireError as exc:
            message = f"its `{name}` is no key: {exc.problem}"
            look.tell("key-malformed", look.line_of(name), message, "Export it again.")
    said = look.file.get("key-direction")
    if said is not None and said.word(0) not in ("0", "1"):
        look.drop("key-direction", said, f"`key-direction {said.word(0)}` is neither 0 nor 1: the software refuses it")
    elif look.file.has("tls-auth") and look.file.direction == 0 and not look.is_server:
        message = "it signs with the server's half of the `tls-auth` key (0), so that neither believes the other"
        look.tell("key-direction", look.line_of("tls-auth"), message, "Write 1, unless the server has 1 itself.")
    elif look.file.inline("tls-auth") is not None and look.file.direction is None and not look.is_server:
        message = "it does not say which half of the `tls-auth` key is its own; most servers have 0, and clients 1"
        look.tell("key-direction", look.line_of("tls-auth"), message, "Add: key-direction 1, if it does not connect.")


def _dates(look: OpenVpnLook, one: x509.Certificate, name: str, what: str) -> None:
    line = look.line_of(name)
    if look.now > one.not_valid_after_utc:
        message = f"{what} ended on {one.not_valid_after_utc:%Y-%m-%d}"
        look.tell("profile-certificate-ended", line, message, _new_one(look))
    elif look.now < one.not_valid_before_utc:
        message = f"{what} begins on {one.not_valid_before_utc:%Y-%m-%d} only: the device's clock may have been wrong"
        remedy = "Set the clock of the device that made it, and make it again; or wait for that day."
        look.tell("profile-certificate-ended", line, message, remedy)


def _strength(look: OpenVpnLook, one: x509.Certificate, name: str, what: str) -> None:
    """What current software refuses of a certificate (OpenSSL's security level 1 and 2)."""
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey

    digest = one.signature_hash_algorithm.name if one.signature_hash_algorithm is not None else ""
    weak = f"is signed with {digest.upper()}" if digest in ("md5", "sha1") and one.subject != one.issuer else ""
    key = one.public_key()
    if isinstance(key, RSAPublicKey) and key.key_size < 2048:
        weak = f"has a key of {key.key_size} bits"
    if weak:
        look.tell("certificate-weak", look.line_of(name), f"{what} {weak}: current software refuses it", _new_one(look))


def _purpose(look: OpenVpnLook, own: x509.Certificate) -> None:
    from cryptography.x509.oid import ExtendedKeyUsageOID

    if may_be(own, ExtendedKeyUsageOID.SERVER_AUTH if look.is_server else ExtendedKeyUsageOID.CLIENT_AUTH) is False:
        whose = "a device's" if look.is_server else "the server's"
        message = f"its certificate is {whose}, and may not be used here"
        look.tell("keys-mixed-up", look.line_of("cert"), message, _new_one(look))


def _key(look: OpenVpnLook, own: x509.Certificate) -> None:
    """Whether its key is for its certificate; one behind a pass phrase cannot be looked at."""
    text = look.text_of("key")
    if text is None or "ENCRYPTED" in text:
        return
    fingerprint = public_text(text)
    if not fingerprint:
        look.tell("key-malformed", look.line_of("key"), "its `key` is no private key", _new_one(look))
    elif fingerprint != key_fingerprint(own):
        message = "its key does not fit its certificate"
        look.tell("keys-mixed-up", look.line_of("key"), message, _new_one(look))


def _new_one(look: OpenVpnLook) -> str:
    """How a device gets another profile."""
    if look.tunnel is not None and look.tunnel.made_by == "hooper" and look.peer_key is not None:
        return f"`{deeds.RENEW_PEER(look.peer_key)}`, and load what it makes."
    return "Make it anew on the server's page, and export it again."
