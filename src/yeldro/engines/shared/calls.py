"""Whether a person's condition does nothing but look: what it calls is judged before it is sent for
the first time."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator

from msgspec import Struct

from yeldro.core.selection.calls import Calls, find_calls
from yeldro.errors import UsageError


class Unsafe(Struct, frozen=True):
    """What may do more than look, and why that is so. `name` is what --allow-function takes."""

    name: str
    reason: str


class Judge(ABC):
    """`allowed` are the names that the person knows to be harmless, in lower case."""

    def __init__(self) -> None:
        self.allowed: frozenset[str] = frozenset()
        self._judged: set[str] = set()

    def check(self, text: str) -> None:
        """UsageError where a condition may do more than look."""
        if text in self._judged:
            return
        calls = find_calls(text)
        if calls.is_coded:
            raise UsageError(
                "A condition holds a name that is written in numbers of letters.",
                "Write it plainly.",
            )
        for found in self.find_unsafe(text, calls):
            if found.name.lower() not in self.allowed:
                raise UsageError(
                    f"A condition may only look at rows, and {found.name} does more than look: "
                    f"{found.reason}.",
                    f"Where you know that it is harmless: --allow-function {found.name}.",
                )
        self._judged.add(text)

    @abstractmethod
    def find_unsafe(self, text: str, calls: Calls) -> Iterator[Unsafe]:
        """What a text calls that may do more than look."""


class ListJudge(Judge):
    """For an engine whose functions all come with it."""

    def __init__(self, unsafe: Iterable[str]) -> None:
        super().__init__()
        self._unsafe = frozenset(unsafe)

    def find_unsafe(self, text: str, calls: Calls) -> Iterator[Unsafe]:
        for name in sorted(calls.names & self._unsafe):
            yield Unsafe(name, "it reaches outside of the database")
