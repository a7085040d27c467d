"""What was pictured, where a file's name or its folders tell it: by a number in a catalogue, which leaves no doubt.

Common practice, no source.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

_NUMBERED = r"(m|messier|ngc|ic|sh[-_ ]?2|ldn|lbn|vdb|abell|barnard|caldwell|ugc|pgc|rcw|gum)[-_ ]?([1-9]\d{0,4})(?![0-9a-z.])"
#: At the beginning of a folder's name, or behind a date.
_OF_FOLDER = re.compile(rf"^(?:\d{{4}}[-_. ]?\d\d[-_. ]?\d\d[-_ ]+)?{_NUMBERED}", re.IGNORECASE)
#: Anywhere in a name, as a word of its own.
NUMBERED = re.compile(rf"(?<![0-9a-z]){_NUMBERED}", re.IGNORECASE)
_CATALOGUES = {
    "messier": "M",
    "vdb": "vdB",
    "abell": "Abell",
    "barnard": "Barnard",
    "caldwell": "Caldwell",
    "gum": "Gum",
}
#: So many objects are in Messier's catalogue: what has a higher number behind an M is something else.
_MESSIER = 110


def target_of_folders(names: Sequence[str]) -> str | None:
    """What was pictured, where one of the folders that a light lies in is named for it: 'M 31', 'NGC 7000', 'Sh2-101', however
    it is spelled there."""
    found = (_OF_FOLDER.match(name) for name in names)
    return next((target for match in found if match and (target := _designation(match))), None)


def target_in_name(name: str) -> str | None:
    """The same of a light's own name without its ending; of two objects in it none counts."""
    # Words of a file's name stand between such signs: an M before one may be of anything.
    numbered = (match for match in NUMBERED.finditer(name) if match[0][:2].lower() not in ("m_", "m-"))
    found = {_designation(match) for match in numbered} - {None}
    return found.pop() if len(found) == 1 else None


def _designation(match: re.Match[str]) -> str | None:
    catalogue, number = re.sub(r"[-_ ]", "", match.group(1).lower()), match.group(2)
    if catalogue == "sh2":
        return f"Sh2-{number}"
    named = _CATALOGUES.get(catalogue, catalogue.upper())
    return None if named == "M" and int(number) > _MESSIER else f"{named} {number}"
