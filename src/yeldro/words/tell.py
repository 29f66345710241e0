"""Facts as sentences.

A sentence holds fields in braces:

    {rows:,}                 a number or a text, as Python formats it
    {rows:row}               a number with its noun: "1 row", "2 rows"
    {rows:?blocks|block}     the word that goes with one, or with any other number
    {--all-rows}             an option, in the words of the command line or of a file
    {--max-rows limit}       the same with the value that a fact is about
    {--dependents table=delete}

Tables stand for their names, lists for what is in them with commas, facts for their sentences.
"""

from __future__ import annotations

import string
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from yeldro.core.model.fact import Fact
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Table
from yeldro.words.afterwards import AFTERWARDS
from yeldro.words.cautions import CAUTIONS
from yeldro.words.findings import FINDINGS
from yeldro.words.forecast import FORECAST
from yeldro.words.refusals import REFUSALS
from yeldro.words.restore import RESTORE
from yeldro.words.review import REVIEW
from yeldro.words.shape import SHAPE
from yeldro.words.stops import STOPS
from yeldro.words.voice import Voice

if TYPE_CHECKING:
    from yeldro.core.run.preview import Preview

SENTENCES: Mapping[str, str] = {
    **CAUTIONS,
    **STOPS,
    **REFUSALS,
    **RESTORE,
    **REVIEW,
    **FINDINGS,
    **AFTERWARDS,
    **FORECAST,
    **SHAPE,
}


def tell(found: Fact, voice: Voice = Voice.COMMAND_LINE) -> str:
    """The sentence for a fact."""
    return _Sentence(found, voice).vformat(SENTENCES[found.kind], (), found.about)


def tell_maybe(found: Fact | None, voice: Voice = Voice.COMMAND_LINE) -> str:
    """The same, "" for nothing."""
    return tell(found, voice) if found else ""


def voice_of(preview: Preview) -> Voice:
    """What belongs to a step of a file is told in the words of the file."""
    return Voice.FILE if preview.step else Voice.COMMAND_LINE


class _Sentence(string.Formatter):
    def __init__(self, found: Fact, voice: Voice) -> None:
        self.found, self.voice = found, voice

    def get_field(self, field_name: str, args: Sequence[Any], kwargs: Mapping[str, Any]) -> Any:
        if field_name.startswith("--"):
            return self._name_option(field_name), field_name
        value = kwargs[field_name]
        if isinstance(value, Fact):
            value = tell(value, self.voice)
        elif isinstance(value, Table):
            value = value.label
        elif isinstance(value, list | tuple):
            value = ", ".join(value)
        return value, field_name

    def _name_option(self, text: str) -> str:
        name, _, given = text.removeprefix("--").partition(" ")
        about, equals, rule = given.partition("=")
        value = self.found.about[about] if about else None
        if isinstance(value, Table):
            value = value.label
        return self.voice.name_option(name, (value, rule) if equals else value)

    def format_field(self, value: Any, format_spec: str) -> str:
        if format_spec.startswith("?"):
            one, _, several = format_spec[1:].partition("|")
            return one if value == 1 else several
        if format_spec[:1].isalpha() and isinstance(value, int):
            return count(value, format_spec)
        return str(format(value, format_spec) if format_spec else value)
