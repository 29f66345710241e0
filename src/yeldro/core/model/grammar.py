"""sqlglot, imported when the first statement is read and not before: that takes longer than a whole
command that reads none."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import sqlglot
    from sqlglot import exp
else:

    class _Later:
        """A module under its name, imported when something in it is asked for."""

        def __init__(self, name: str) -> None:
            self._name = name

        def __getattr__(self, name: str) -> Any:
            value = getattr(import_module(self._name), name)
            setattr(self, name, value)
            return value

    sqlglot, exp = _Later("sqlglot"), _Later("sqlglot.expressions")

__all__ = ["exp", "sqlglot"]
