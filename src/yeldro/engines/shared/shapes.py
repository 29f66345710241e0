"""Shapes of tables, from the rows of a catalogue."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from yeldro.core.model.schema import TableName
from yeldro.core.model.shape import PartKind, Shape


def gather(rows: Iterable[tuple[Any, ...]]) -> Shape:
    """Rows of schema, table, kind, name and definition."""
    found: dict[TableName, dict[tuple[PartKind, str], str]] = {}
    for schema, table, kind, name, text in rows:
        parts = found.setdefault(TableName(str(schema), str(table)), {})
        parts[PartKind(str(kind)), str(name)] = str(text)
    return found
