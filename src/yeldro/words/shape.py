"""What became of the definition of a table."""

from __future__ import annotations

_NAMES = {
    "column": "Column {name}",
    "trigger": "The trigger {name}",
    "rule": "The rule {name}",
    "policy": "The row security policy {name}",
    "unique": "The unique key {name}",
    "check": "The CHECK constraint {name}",
    "partition": "The partition {name}",
}
_CHANGES = {
    "added": "was added to {table} {since}",
    "dropped": "was dropped from {table} {since}",
    "changed": "of {table} was changed {since}",
}

SHAPE = {
    **{
        f"shape.{kind}.{change}": f"{name} {done}."
        for kind, name in _NAMES.items()
        for change, done in _CHANGES.items()
    },
    "shape.reference.added": "The reference {name} was added to or from {table} {since}.",
    "shape.reference.dropped": "The reference {name}, to or from {table}, was dropped {since}.",
    "shape.reference.changed": "The reference {name}, to or from {table}, was changed {since}.",
    "shape.table.added": "The table {table} was made {since}.",
    "shape.table.dropped": "The table {table} was dropped or hidden {since}.",
    "shape.table.changed": "The definition of {table} was changed {since}.",
}
