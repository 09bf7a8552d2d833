"""The tables of certificates and of who issues them (pydantic)."""

from typing import Annotated, Literal

from pydantic import Field, StrictBool

from hooper.site.fields import DnsName, Duration, Key, SecretField, Signable
from hooper.site.table import Table

FileName = Annotated[str, Field(pattern=r"^[A-Za-z0-9_@+=-][A-Za-z0-9_.@+=-]{0,120}$")]


class Certificate(Table):
    """[certificates.KEY]: a certificate for one or more names.

    challenge: how control of the names is proven. names: what it is for. services: who shows it.
    """

    names: Annotated[tuple[DnsName, ...], Field(min_length=1)]
    authority: str = Field("device", description='One of [authorities], or "device": then only watched.')
    services: tuple[Key, ...] = ()
    challenge: Literal["auto", "dns-01", "http-01", "tls-alpn-01"] = "auto"
    text_by: Key | None = Field(
        None, description="dns-01: the updater that sets the TXT records, where it is not each name's own."
    )
    key_type: Literal["p-256", "p-384", "rsa-2048", "rsa-3072", "rsa-4096"] = Field(
        "p-256", description="The kind of key; old devices may take RSA alone."
    )
    chain_to: Annotated[str, Field(min_length=1)] | None = Field(
        None, description="Of several chains that the authority has, the one to the root of this name."
    )
    profile: Annotated[str, Field(pattern=r"^[A-Za-z0-9_.-]{1,64}$")] | None = Field(
        None, description="The authority's profile by which it is issued, such as one of a short life."
    )
    page_folder: Annotated[str, Field(min_length=1)] | None = Field(
        None, description="http-01: the folder of the web server on this computer that answers at port 80."
    )
    give_to: Annotated[str, Field(min_length=1)] | None = Field(
        None,
        description="The folder that receives the files, such as a device's share, or sftp://USER@HOST/FOLDER.",
    )
    give_as: Literal["pem", "pem-one", "pkcs1", "pkcs12"] = Field(
        "pem",
        description="pem: key and chain in two files; pem-one: in one; pkcs1: with the key in the older form; pkcs12.",
    )
    give_key_name: FileName | None = Field(None, description="The key's file there; else key.pem.")
    give_chain_name: FileName | None = Field(None, description="The chain's file; else certificate-with-chain.pem.")
    give_owner: Annotated[str, Field(pattern=r"^[A-Za-z0-9_.-]+(:[A-Za-z0-9_.-]+)?$")] | None = Field(
        None, description="Whose the files are to be, as USER or USER:GROUP of this computer."
    )
    give_mode: Annotated[str, Field(pattern=r"^0?[0-7]{3}$")] | None = Field(
        None, description="The mode of the files; else 600, which its owner alone reads."
    )
    give_password: SecretField | None = Field(None, description="pkcs12: what the bundle is sealed with.")
    give_host_key: Annotated[str, Field(pattern=r"^[a-z0-9@.-]+ [A-Za-z0-9+/=]+( .*)?$")] | None = Field(
        None, description="sftp: the host key of the server, as its .pub file has it; no other is taken."
    )
    give_reload: tuple[Annotated[str, Field(min_length=1)], ...] = Field(
        (), description="The program that has the server read its files anew."
    )
    give_wait: Duration = Field(30.0, description="How long it may take until the new one is shown.")
    give_command: tuple[Annotated[str, Field(min_length=1)], ...] = Field(
        (), description="The program that hands it to who shows it; it finds the files by its environment."
    )


class Authority(Table):
    """[authorities.KEY]: a certificate authority that speaks ACME, or one of your own.

    contact: whom the authority writes to. directory: its ACME directory.
    """

    kind: Literal["acme", "own"] = Field("acme", description="own: Hooper is the authority, for names of the LAN.")
    directory: Annotated[str, Field(pattern=r"^https://[^\s]+$")] | None = None
    signs: tuple[Signable, ...] = Field(
        (), description="own: the names, each with all below it, and the networks that it may vouch for, ever."
    )
    contact: tuple[str, ...] = ()
    staging: Annotated[str, Field(pattern=r"^https://[^\s]+$")] | None = Field(
        None, description="Its staging directory, where an order can be tried without counting."
    )
    agreed: StrictBool = Field(False, description="You have read and accept its terms of service.")
    binding_id: str | None = Field(None, description="External account binding (RFC 8555 section 7.3.4): the key's id.")
    binding_key: SecretField | None = Field(None, description="The binding's HMAC key, in base64url.")
    trust: SecretField | None = Field(None, description="file:PATH of the authority's own root certificate.")

    @property
    def acme_directory(self) -> str:
        """The directory of one that speaks ACME."""
        assert self.directory is not None
        return self.directory
