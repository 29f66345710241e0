"""What each caution says: what was found, why it matters and what to do."""

from __future__ import annotations

CAUTIONS = {
    "always-true.same": ("{written} is true for every row without a NULL there. Leave it out."),
    "always-true.constant": "{written} is true for every row of {table}. Leave it out.",
    "always-true.exists": (
        "{written} does not look at the row of {table}, so it is the same for all of them. Compare "
        "a column of the subquery with one of the table."
    ),
    "outer-column": (
        "{inside} has no column {column}, so in the subquery it silently means that of {table}, "
        "and the subquery compares the row with itself. Name a column of the subquery's own table."
    ),
    "quoted-word": (
        "The quoted word {word} is not a column here but a text, so the comparison is the same for "
        "every row. Write a column's name without these quotes."
    ),
    "quoted-word.near": (
        "The quoted word {word} is not a column here but a text, so the comparison is the same for "
        "every row. The nearest column is {near}. Write a column's name without these quotes."
    ),
    "mixed-and-or": (
        "AND binds before OR, so this is read as {read}. Write the brackets that you mean."
    ),
    "mixed-and-or.pipes": "|| means OR here and does not join texts. Write OR, or CONCAT(…).",
    "never-true": (
        "{written} is true for no row at all, because NULL equals nothing. Write {other} {test}."
    ),
    "null-in-list.literal": (
        "The list of NOT IN holds NULL, so no row at all matches. Take it out."
    ),
    "null-in-list.subquery": (
        "{rows:row} of the subquery {rows:?holds|hold} NULL in {shown}, and with one NULL in its "
        "list NOT IN matches no row at all. Add WHERE {shown} IS NOT NULL, or use NOT EXISTS with "
        "{what}."
    ),
    "null-left-out": (
        "{rows:row} of {table} {rows:?holds|hold} NULL in {column}, and {part} is not true for "
        "{rows:?it|them}. If {rows:?it is|they are} meant too, add OR {column} IS NULL, in "
        "brackets."
    ),
    "text-as-number": "{written}: {reason}",
    "text-as-number.alone": ("{written}: {reason} {rows:row} {rows:?matches|match} by that alone."),
    "text-as-number.untyped": (
        "{written} compares a number with a text without turning either into the other, and a "
        "number is always less. Leave out the quotes."
    ),
    "text-as-number.bare": (
        "{column} is a text and is read as a number here: true where that is not 0. Compare it "
        "with something."
    ),
    "mismatch.sum": ("without quotes {value} is a sum of numbers and not a day. Put it in quotes."),
    "mismatch.number-and-day": "a number is compared with a day. Put the day in quotes.",
    "mismatch.day-by-letters": (
        "the text is not a day in the form 2024-01-31, so it is compared as a text, letter by "
        "letter. Write it in that form."
    ),
    "mismatch.day-converted": (
        "the text is not a day in the form 2024-01-31, so it is compared after a conversion that "
        "may fail. Write it in that form."
    ),
    "mismatch.text-becomes-number": (
        "every {column} is turned into a number first, and a text without one counts as 0. Put "
        "quotes around the value."
    ),
    "mismatch.by-letters": (
        "{column} holds texts, so the number is compared as one, letter by letter: '10' is less "
        "than '9'. Put quotes around the value, or compare CAST(… AS INTEGER)."
    ),
    "mismatch.becomes-zero": (
        "the text is turned into a number first, here 0. Compare {column} with a number."
    ),
    "mismatch.not-a-number": (
        "the value is not a number, and any number is less than any text. Compare {column} with a "
        "number."
    ),
    "mixed-types.text": (
        "{rows:row} of {table} {rows:?holds|hold} a text, and any number is less than any text: "
        "{matching:,} of them meet {written}. Look at them, and leave them out with a condition on "
        "{column} if they are not meant."
    ),
    "mixed-types.day": (
        "{rows:row} of {table} {rows:?holds|hold} no day in the form 2024-01-31, and texts are "
        "compared letter by letter: {matching:,} of them meet {written}. Look at them, and leave "
        "them out with a condition on {column} if they are not meant."
    ),
    "approximate-number": (
        "{column} is a {type} and holds {value} only approximately, so = may miss it. Compare with "
        "a small range."
    ),
    "case-blind": (
        "The collation of {column} merges spellings: {spellings} all match. Compare in binary form "
        "if only one is meant."
    ),
    "case-blind.groups": (
        "In {groups:group} the collation of {column} makes several spellings one. A unique index "
        "would too; look at them, and add an expression to {--same} where they should stay apart."
    ),
    "wildcard": (
        "In LIKE an underscore stands for any character: {rows:row} {rows:?matches|match} by that "
        "alone. If the character itself is meant: {what} LIKE '{plain}' ESCAPE '!'."
    ),
    "end-of-day": (
        "{column} holds moments, and the day {day} alone means its midnight. Write {what} < the "
        "day after."
    ),
    "end-of-day.rows": (
        "{column} holds moments, and the day {day} alone means its midnight. {rows:row} of that "
        "day {rows:?is|are} left out. Write {what} < the day after."
    ),
    "changing-condition.value": (
        "{written} is another value for every row and every time, so the rows that match now are "
        "not those of the next time. Choose rows by their own values."
    ),
    "changing-condition.clock": (
        "{written} moves on, so a later run matches other rows. Give the day as a value if the "
        "same rows are meant."
    ),
    "unparsed": (
        "The parser could not read the condition, so nobody looked for unknown columns, for "
        "functions that do more than look, or for any of the known mistakes. Only the database "
        "checks it. Look at the matched rows with care."
    ),
    "not-unique": (
        "One row is expected, but the condition is on no unique column of {table}, so tomorrow it "
        "may match another or more. Name the row by {--key}."
    ),
    "ties-at-limit": (
        "{rows:more row} {rows:?has|have} the same {columns} as the last of the {limit:,}, and "
        "only the key decided between them. Add a column to {--order-by}, or change {--limit}."
    ),
    "whole-table.meant": (
        "All {rows:,} rows of {table} match, so nothing of the table would be left. Allowed by "
        "{--all-rows}."
    ),
    "whole-table.not-meant": (
        "All {rows:,} rows of {table} match, so nothing of the table would be left. If that is "
        "meant, give {--all-rows}; if not, narrow the condition."
    ),
    "whole-table.clear-meant": (
        "All {rows:,} rows of {table} match, so no row would hold anything there. Allowed by "
        "{--all-rows}."
    ),
    "whole-table.clear-not-meant": (
        "All {rows:,} rows of {table} match, so no row would hold anything there. If that is "
        "meant, give {--all-rows}; if not, narrow the condition."
    ),
    "whole-table.script": (
        "All {rows:,} rows of {table} match, so nothing of the table would be left. Is that meant?"
    ),
    "null-reference.found": (
        "{rows:row} of {table} {rows:?holds|hold} NULL in {columns}. NULL equals nothing, so "
        "{rows:?it is|they are} not among the matched rows."
    ),
    "null-reference.not-found": (
        "{rows:row} of {table} {rows:?holds|hold} NULL in {columns}. NULL equals nothing, so "
        "{rows:?it matches|they match} as lacking one. Leave {rows:?it|them} out with {--where "
        "condition}."
    ),
    "large-group": (
        "One group holds {rows:,} rows with the same {same}, far more than the others. That is "
        "often a value that stands for nothing, such as a placeholder. Look at it, and leave it "
        "out with {--where} if so."
    ),
    "unindexed-reference.check": (
        "No index of {child} begins with {columns}, so for each of the {checks:,} rows deleted "
        "from {parent} the database would look through {rows:row}. The run builds an index first "
        "and drops it before it commits, which keeps writers of {child} waiting. A lasting index "
        "would be better."
    ),
    "unindexed-reference": (
        "No index of {child} begins with {columns}, so every deletion from {parent} scans the "
        "whole table. Add an index."
    ),
    "undeclared-reference": (
        "By its name, type and values ({fitting:,} of {distinct:,} fit) this is a reference that "
        "the schema does not declare, so nothing follows it. If it is one, put it into yeldro.toml."
    ),
    "hidden-reference": (
        "Not everything that depends on {table} can be seen: {reason}. No row of {table} is "
        "deleted until it can."
    ),
    "no-key": (
        "{table} has no primary key, so equal rows cannot be told apart by their values. Give it "
        "one where you can."
    ),
    "not-transactional": "Nothing is deleted from {table}, because {reason}.",
    "not-transactional.truncate": "{reason}",
    "row-security": (
        "Row security is on for {table}: another role may see other rows. Where it would hide rows "
        "from this role, the run fails instead of missing them."
    ),
    "reused-key": (
        "The last number of {table} is among them, and a new row gets it again: what keeps it "
        "elsewhere then means another row, and a restore finds it taken. A table that is made with "
        "AUTOINCREMENT gives no number twice."
    ),
    "reused-key.restart": (
        "New rows of {table} get the numbers of those that are gone: what keeps one elsewhere then "
        "means another row, and a restore finds it taken. Leave out {--restart-numbers} to go on "
        "counting."
    ),
    "trigger": (
        "The trigger {trigger} runs when rows of {table} are {happens} and may change other "
        "tables. Read it before you delete."
    ),
    "unenforced-reference.broken": (
        "{reason}, so the database cannot enforce it. Fix or drop the reference."
    ),
    "unenforced-reference": (
        "Its checks are switched off, or old rows were never checked, so rows may point at "
        "nothing. Yeldro follows and checks it all the same."
    ),
}
