"""Who asks at an address: user, password, token or key file; from where a person keeps them, and from nowhere else.

Rule: what an address says comes first, then the environment, the file of credentials, .netrc, the system's keyring.
Each is kept by host, so that none is ever sent to another.
"""

from __future__ import annotations

import contextlib
import os
import re
import stat
import tomllib
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from neat_delta.core.base.support.errors import FileError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.files.sources.address import Address

__all__ = ["Credentials", "credentials_file", "credentials_for"]


@dataclass(frozen=True, slots=True)
class Credentials:
    """Who asks; what is not known is None."""

    user: str | None = None
    password: str | None = field(default=None, repr=False)
    token: str | None = field(default=None, repr=False)
    key_file: str | None = None


NAMES = ("user", "password", "token", "key_file")


def credentials_for(address: Address) -> Credentials:
    """The credentials for an address's host. FileError where the file of credentials may be read by others, or says
    what it cannot.
    """
    if address.password is not None:
        return Credentials(address.user, address.password)
    for kept in (_of_environment, _of_file, _of_netrc, _of_keyring):
        known = kept(address)
        if known is not None and address.user in {None, known.user, known.user or address.user}:
            return Credentials(address.user or known.user, known.password, known.token, known.key_file)
    return Credentials(address.user)


def _of_environment(address: Address) -> Credentials | None:
    """`NEAT_DELTA_PASSWORD_FTP_QUILLFERN_EXAMPLE` and the like: the host in capitals, with _ for what is no letter or
    digit.
    """
    host = re.sub(r"[^A-Z0-9]", "_", address.host.upper())
    values = {name: os.environ.get(f"NEAT_DELTA_{name.upper()}_{host}") for name in NAMES}
    return Credentials(**values) if any(values.values()) else None


def credentials_file() -> Path:
    """Where the file of credentials is: `neat-delta/credentials.toml` in the folder for settings (XDG)."""
    home = os.environ.get("XDG_CONFIG_HOME") or str(Path("~/.config").expanduser())
    return Path(home) / "neat-delta" / "credentials.toml"


def _of_file(address: Address) -> Credentials | None:
    path = credentials_file()
    try:
        state = path.stat()
        content = path.read_text("utf-8")
    except FileNotFoundError:
        return None
    except (OSError, UnicodeDecodeError):
        raise FileError(f"{path}: it cannot be read. See to that, or move it away.") from None
    if stat.S_IMODE(state.st_mode) & 0o077:
        raise FileError(f"{path}: others may read it, and it holds passwords. Run: chmod 600 {path}")
    try:
        hosts: dict[str, Any] = tomllib.loads(content)
    except tomllib.TOMLDecodeError as error:
        place = re.search(r"\(at .*\)", str(error))  # what it says besides may quote a password
        raise FileError(f"{path}: this is no TOML {place[0] if place else ''}. Mend it there.") from None
    known = hosts.get(address.host)
    if not isinstance(known, dict):
        return None
    for name, value in known.items():
        if name not in NAMES or not isinstance(value, str):
            more = did_you_mean(name, NAMES, f"A host has {', '.join(NAMES)}, each a text.")
            raise FileError(f'{path}: "{name}" of {address.host} is no text that it may have.{more}')
    return Credentials(**known)


def _of_netrc(address: Address) -> Credentials | None:
    import netrc

    path = os.environ.get("NETRC") or str(Path("~/.netrc").expanduser())
    try:
        if stat.S_IMODE(Path(path).stat().st_mode) & 0o077:
            raise FileError(f"{path}: others may read it, and it holds passwords. Run: chmod 600 {path}")
        entry = netrc.netrc(path).authenticators(address.host)
    except OSError:
        return None
    except netrc.NetrcParseError as error:
        raise FileError(f"{path}: line {error.lineno} of it cannot be understood. Mend it there.") from None
    return None if entry is None else Credentials(entry[0] or None, entry[2] or None)


def _of_keyring(address: Address) -> Credentials | None:
    try:
        import keyring
    except ImportError:
        return None
    with contextlib.suppress(Exception):  # a machine without a desktop has none that is open
        entry = keyring.get_credential(f"neat-delta {address.host}", address.user)
        if entry is not None:
            return Credentials(entry.username, entry.password)
    return None
