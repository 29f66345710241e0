"""Rows in the text form of COPY, as JSON."""

from __future__ import annotations

import re
from collections.abc import Sequence

# What JSON cannot hold as it is, and the one escape of COPY that JSON does not have.
_COMMON = bytes({*range(256)} - {*range(0x20)} | {0x09, 0x0A})


# What must be turned round on the way from COPY to JSON.
_ESCAPE = re.compile(rb"\\.|[\x00-\x08\x0b-\x1f]", re.DOTALL)


def pack(lines: Sequence[bytes]) -> str:
    """Lines in the text form of COPY, each ending in a line break, as a JSON array of rows of texts
    and nulls.

    COPY escapes what JSON escapes, but for quotes, rare control characters and NULL.
    """
    text = b"".join(lines)
    if b"\\v" in text or text.translate(None, _COMMON):
        text = _ESCAPE.sub(_escape, text)
    text = text.replace(b'"', b'\\"').replace(b"\t", b'","').replace(b"\n", b'"],["')
    return (b'[["' + text[:-3] + b"]").replace(b'"\\N"', b"null").decode()


def _escape(found: re.Match[bytes]) -> bytes:
    one = found[0]
    if one == b"\\v":
        return b"\\u000b"
    return one if len(one) == 2 else b"\\u%04x" % one[0]
