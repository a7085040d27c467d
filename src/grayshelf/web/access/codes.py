"""The access code of a library that is served to a network, and the sessions that were begun with it.

The code has 60 bits in Crockford's base 32 (D. Crockford, 'Base 32', from memory), so that nobody guesses it and anybody
can read it out. Of a session only the hash of its token is kept: whoever reads the file cannot use it.
"""

from __future__ import annotations

import hashlib
import hmac
import ipaddress
import json
import os
import secrets
import threading
import time
from collections import deque
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path

from grayshelf.core.errors import NotFound

_SIGNS = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
_LOOK_ALIKE = str.maketrans({"O": "0", "I": "1", "L": "1"})
CODE_SIGNS = 12
#: In the library's folder; only its owner may read it.
ACCESS_FILE = "access.json"
#: Wrong codes from one address within a minute, and from all together, after which none is looked at for a while.
MOST_WRONG, MOST_WRONG_OF_ALL, WITHIN_S = 10, 60, 60.0
#: A session that is not used for so long is over.
_UNUSED_S = 60 * 86_400
#: When a session was last used is written down so often.
_WRITTEN_EACH_S = 60.0
#: What this machine is called in its network is looked at again so often.
LOOKED_AT_EACH_S = 10.0


class TooMany(Exception):
    """Too many wrong codes came from an address; its argument is in how many seconds one is looked at again."""


@dataclass
class Session:
    """A browser that gave the right code."""

    number: int
    token_sha256: str
    name: str
    """What the browser says that it is."""
    address: str
    since_s: float
    last_s: float


def _new_code() -> str:
    return "".join(secrets.choice(_SIGNS) for _ in range(CODE_SIGNS))


def in_fours(code: str) -> str:
    """'K3M9-0QWT-77ZC': as it is shown."""
    return "-".join(code[i : i + 4] for i in range(0, len(code), 4))


def typed(text: str) -> str:
    """A code as it was typed: in capitals, without dashes, look-alikes read as what they stand for."""
    return "".join(c for c in text.upper().translate(_LOOK_ALIKE) if c in _SIGNS)


def _network_of(address: str) -> str:
    """By what wrong codes are counted: one machine may have very many addresses of version 6."""
    try:
        ip = ipaddress.ip_address(address)
    except ValueError:
        return address
    return str(ipaddress.ip_network(f"{ip}/64", strict=False)) if ip.version == 6 else str(ip)


class Access:
    """Who may ask from elsewhere."""

    def __init__(
        self,
        root: Path,
        look: Callable[[], tuple[str, ...]],
        *,
        folders: bool,
        clock: Callable[[], float] = time.time,
    ) -> None:
        """`look` tells the names that this machine has in its network now; `folders` permits to name folders from there."""
        self.folders, self._look = folders, look
        self._names: tuple[float, tuple[str, ...]] = -1.0, ()
        self._path, self._clock = root / ACCESS_FILE, clock
        self._lock = threading.Lock()
        self._wrong: dict[str, deque[float]] = {}
        self._wrong_of_all: deque[float] = deque()
        self.code, self._sessions = self._read()
        self._write()

    @property
    def addresses(self) -> tuple[str, ...]:
        """The names that this machine has in its network: another room's router may give it another one at any time."""
        until, names = self._names
        if self._clock() > until:
            names = self._look()
            self._names = self._clock() + LOOKED_AT_EACH_S, names
        return names

    def _read(self) -> tuple[str, dict[int, Session]]:
        try:
            kept = json.loads(self._path.read_text())
            sessions = [Session(**s) for s in kept["sessions"]]
            code = typed(str(kept["code"]))
        except (OSError, ValueError, KeyError, TypeError):
            return _new_code(), {}
        if len(code) != CODE_SIGNS:
            return _new_code(), {}
        return code, {s.number: s for s in sessions if self._clock() - s.last_s < _UNUSED_S}

    def _write(self) -> None:
        text = json.dumps({"code": self.code, "sessions": [asdict(s) for s in self._sessions.values()]})
        part = self._path.with_suffix(".part")
        handle = os.open(part, os.O_CREAT | os.O_TRUNC | os.O_WRONLY, 0o600)
        with os.fdopen(handle, "w") as stream:
            stream.write(text)
        part.replace(self._path)

    def begin(self, code: str, address: str, name: str) -> str | None:
        """The token of a new session; None where the code is wrong.

        Raises
        ------
        TooMany
        """
        with self._lock:
            self._check_pace(address)
            # In constant time: how long it takes says nothing of where it is wrong.
            if not hmac.compare_digest(typed(code[:100]).encode(), self.code.encode()):
                now = self._clock()
                self._wrong.setdefault(_network_of(address), deque()).append(now)
                self._wrong_of_all.append(now)
                return None
            self._wrong.pop(_network_of(address), None)
            token = secrets.token_urlsafe(32)
            number = max(self._sessions, default=0) + 1
            now = self._clock()
            self._sessions[number] = Session(number, _hashed(token), name[:120], address, now, now)
            self._write()
            return token

    def _check_pace(self, address: str) -> None:
        now = self._clock()
        for key in [k for k, times in self._wrong.items() if now - times[-1] > WITHIN_S]:
            del self._wrong[key]
        for times, most in (
            (self._wrong.get(_network_of(address), deque()), MOST_WRONG),
            (self._wrong_of_all, MOST_WRONG_OF_ALL),
        ):
            while times and now - times[0] > WITHIN_S:
                times.popleft()
            if len(times) >= most:
                raise TooMany(WITHIN_S - (now - times[0]))

    def session_of(self, token: str | None) -> int | None:
        """The number of the session that a token is of; None where there is none."""
        if not token:
            return None
        hashed = _hashed(token)
        with self._lock:
            found = next(
                (s for s in self._sessions.values() if hmac.compare_digest(s.token_sha256, hashed)), None
            )
            if found is None:
                return None
            now = self._clock()
            if now - found.last_s > _WRITTEN_EACH_S:
                found.last_s = now
                self._write()
            return found.number

    def is_open(self, number: int | None) -> bool:
        """Whether a session goes on."""
        with self._lock:
            return number in self._sessions

    def sessions(self) -> list[Session]:
        """All that go on, the newest first."""
        with self._lock:
            return sorted(self._sessions.values(), key=lambda s: -s.number)

    def end(self, number: int) -> None:
        """End a session, everywhere and at once.

        Raises
        ------
        NotFound
        """
        with self._lock:
            if self._sessions.pop(number, None) is None:
                raise NotFound("This session has ended already.")
            self._write()

    def renew_code(self) -> None:
        """Make another code; all sessions end."""
        with self._lock:
            self.code = _new_code()
            self._sessions.clear()
            self._write()


def _hashed(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
