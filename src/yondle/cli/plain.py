"""Plain characters where a terminal knows no others: a locale that isn't UTF-8 ends no command in a fault."""

from __future__ import annotations

import codecs
import sys
import unicodedata

HANDLER = "yondle_plain"
PLAIN = {
    "·": "-", "−": "-", "–": "-", "—": "-", "⁻": "-", "→": "->", "←": "<-", "↑": "^", "↓": "v", "±": "+-", "×": "x", "÷": "/",
    "°": "", "…": "...", "●": "*", "○": "o", "◐": "%", "◆": "#", "▲": "^", "▼": "v", "☒": "X", "‹": "<", "›": ">", "„": '"',
    "“": '"', "”": '"', "‘": "'", "’": "'", "µ": "u", "ß": "ss", "ä": "ae", "ö": "oe", "ü": "ue", "Ä": "Ae", "Ö": "Oe",
    "Ü": "Ue", "²": "2", "³": "3", "\u2068": "", "\u2069": "",
}  # fmt: skip
"""What is written for characters of ours; others lose their accents, or become a question mark."""


def speak_plainly() -> None:
    """Have both outputs write plain characters for those that their encoding has none for.

    One that knows ASCII alone gets an encoding of another name that does the same: the library that writes help texts takes
    ASCII for a mistake, and writes UTF-8 all the same.
    """
    for stream in (sys.stdout, sys.stderr):
        encoding = getattr(stream, "encoding", "") or ""
        reconfigure = getattr(stream, "reconfigure", None)
        if reconfigure is None or encoding.lower().startswith("utf"):
            continue
        codecs.register_error(HANDLER, _written)
        if codecs.lookup(encoding).name == "ascii":
            codecs.register(_found)
            reconfigure(encoding=HANDLER)
        else:
            reconfigure(errors=HANDLER)


class _Encoder(codecs.IncrementalEncoder):
    """Writes ASCII, with something plain for all else."""

    def encode(self, input: str, final: bool = False) -> bytes:
        """Encode a text."""
        return input.encode("ascii", HANDLER)


def _found(name: str) -> codecs.CodecInfo | None:
    if name != HANDLER:
        return None
    decoder = codecs.getincrementaldecoder("ascii")
    return codecs.CodecInfo(
        _encoded, codecs.ascii_decode, incrementalencoder=_Encoder, incrementaldecoder=decoder, name=name
    )


def _encoded(text: str, _errors: str = "") -> tuple[bytes, int]:
    return text.encode("ascii", HANDLER), len(text)


def _written(error: UnicodeError) -> tuple[str, int]:
    if not isinstance(error, UnicodeEncodeError):
        raise error
    return "".join(map(_for, error.object[error.start : error.end])), error.end


def _for(character: str) -> str:
    if character in PLAIN:
        return PLAIN[character]
    if character.isspace():
        return " "
    bare = unicodedata.normalize("NFKD", character).encode("ascii", "ignore").decode()
    return bare or "?"
