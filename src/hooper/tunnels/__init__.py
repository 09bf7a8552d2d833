"""Private access: keys, the files of both sides, profiles of others."""

__all__ = (
    "common", "direct_way", "documents", "exported", "keys", "look", "making", "openvpn_allowed", "openvpn_authority",
    "openvpn_look", "openvpn_profiles", "seen", "sheet", "steps",
)  # fmt: skip
