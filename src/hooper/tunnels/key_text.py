"""The public key of a private one, as the site file has it. Pure."""

from __future__ import annotations

from hooper.certs.inspect import fingerprint_of_key


def public_text(private: str) -> str:
    """The public key of a private one in PEM, as the site file has it; empty: it is none."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives import serialization

    form = serialization.PublicFormat
    try:
        if "OPENSSH" in private:
            own = serialization.load_ssh_private_key(private.encode(), None).public_key()
            return own.public_bytes(serialization.Encoding.OpenSSH, form.OpenSSH).decode()
        public = serialization.load_pem_private_key(private.encode(), None).public_key()
    except (ValueError, TypeError, UnsupportedAlgorithm):
        return ""
    return fingerprint_of_key(public.public_bytes(serialization.Encoding.DER, form.SubjectPublicKeyInfo))
