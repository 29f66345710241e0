"""What could be cleaned up, in a line each."""

from __future__ import annotations

FINDINGS = {
    "finding.orphans": "{rows:row} {rows:?points|point} at no row: {reference}.",
    "finding.orphans.likely": (
        "{rows:row} {rows:?points|point} at no row: {reference}, a reference that the schema does "
        "not declare."
    ),
    "finding.alike": "{rows:row} too many, alike in every column.",
    "finding.alike.but-the-key": "{rows:row} too many, alike in every column but the key.",
    "finding.almost-unique": (
        "{columns} {columns_number:?is|are} almost unique: {rows:row} too many."
    ),
    "finding.almost-unique.loosely": (
        "{columns} {columns_number:?is|are} almost unique, ignoring case and spaces: {rows:row} "
        "too many."
    ),
    "finding.blank": (
        "{column} has {rows:row} with a blank text beside {nulls:,} with NULL, which mean the same "
        "or do not."
    ),
    "finding.mixed": "{column} is {type}, and {rows:row} {rows:?holds|hold} {kind}.",
    "finding.days": (
        "{column} holds days as texts: {rows:row} {rows:?is|are} written like {form}, most like "
        "{usual}."
    ),
    "finding.empty": "It is empty, and nothing references it.",
}
