"""Why a run would be stopped before its first change, and what a preview tells beside."""

from __future__ import annotations

REFUSALS = {
    "refused.not-expected": (
        "{expect} {what}{number:?|s} of {table} {number:?was|were} expected, {found}."
    ),
    "found.matching": "{rows:,} {rows:?matches|match}",
    "found.there": "there {rows:?is|are} {rows:,}",
    "refused.whole-table": (
        "All {rows:,} rows of {table} match; give {--all-rows} if that is meant."
    ),
    "refused.carried": (
        "{rows:row} of {table} would change through {reference}, which is ON UPDATE {rule}: the "
        "server carries the new value on and counts nothing of it. Change them first, or drop the "
        "reference meanwhile."
    ),
    "refused.no-trigger": "There is no trigger {name} to allow; yeldro survey TABLE lists them.",
    "refused.hidden": "Not everything that depends on {table} can be seen: {reason}.",
    "refused.lasting": "{what}; {--no-rollback} says that this is known.",
    "refused.too-many": "The reach holds {rows:row}, more than {--max-rows limit}.",
    "refused.too-many-in-all": (
        "The reaches of all steps so far hold {rows:row}, more than {--max-rows limit}."
    ),
    "refused.too-large-share": (
        "{rows:row} {rows:?is|are} {share} of {table}, more than {--max-share limit}."
    ),
    "refused.strict": "{caution} ({--strict name})",
    "refused.not-expected-in-all": "{expect} {number:?row was|rows were} expected in all, {found}.",
    "refused.blanks": (
        "{rows:,} rows have a blank text in {same}: the unique index would not let them stay side "
        "by side; {--nulls same_word} makes them duplicates, or make them NULL first."
    ),
    "refused.seal-unknown": (
        "It was sealed with {sealed:matched row}, and {rows:,} {rows:?matches|match} now; which "
        "ones came and went is not known, because the file beside the cleanup is missing."
    ),
    "refused.seal": (
        "It was sealed with {sealed:matched row}, and {rows:,} {rows:?matches|match} now: "
        "{came:row} came into its reach, {went:,} left it."
    ),
    "hint.allowed": (
        "What {triggers} may do to other rows is counted, and in no copy: a restore leaves it."
    ),
    "hint.key": (
        "One row matches, but by no unique column: {--key key} identifies it permanently."
    ),
    "hint.clear-already": (
        "{already:,} of the {matched:,} matched rows {already:?is|are} clear already, and "
        "{already:?stays|stay} untouched."
    ),
    "hint.rare": (
        "{rows:,} of the {matched:,} matched rows {rows:?has|have} no {column}, unlike the rest."
    ),
    "hint.heavy": (
        "A batch cannot be smaller than {rows:row} here: that many are one row of {parent} with "
        "the rows of {child} that depend on it."
    ),
    "hint.heavy-group": (
        "A batch cannot be smaller than {rows:row} here: that many are the surplus rows of the "
        "largest group."
    ),
    "hint.index": ("Then the unique index {name} on ({same}) is added, in the same transaction."),
    "hint.index-special": (
        "Then this index is added, in the same transaction, by the engine's own rules for case and "
        "blanks: {written}"
    ),
    "hint.index-after": (
        "Then the unique index {name} on ({same}) is added, after the commit, which making an "
        "index would be by itself here."
    ),
}
