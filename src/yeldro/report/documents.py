"""Results as JSON documents. The keys are part of the contract: see docs/output.md."""

from __future__ import annotations

from collections.abc import Sequence

from yeldro.core.cautions.caution import Caution
from yeldro.core.cautions.no_match import NoMatch
from yeldro.core.findings.finding import Findings
from yeldro.core.findings.holding import Holdings
from yeldro.core.model.schema import Reference, Table
from yeldro.core.review.verdict import Review
from yeldro.core.run.batching import Progress
from yeldro.core.run.outcome import RunResult, StepAccount
from yeldro.core.run.preview import Preview
from yeldro.core.survey.map import TableMap
from yeldro.core.survey.survey import Close, TableSurvey
from yeldro.report.findings import WriteLine
from yeldro.report.json_text import Document
from yeldro.report.seal import make_changes
from yeldro.store.run_facts import describe_reach, describe_tally
from yeldro.words.tell import tell, tell_maybe, voice_of
from yeldro.words.voice import Voice


def make_survey(database: str, tables: Sequence[TableSurvey]) -> Document:
    return {"kind": "survey", "database": database, "tables": [_table(table) for table in tables]}


def _make_no_match(one: NoMatch) -> Document:
    listed = {"alike": one.alike, "near": one.near, "common": one.common}
    return {
        "condition": one.written,
        "column": one.column.name,
        **{
            name: [{"value": value, "rows": rows} for value, rows in values]
            for name, values in listed.items()
        },
    }


def make_findings(database: str, findings: Findings, write_line: WriteLine) -> Document:
    return {
        "kind": "survey",
        "database": database,
        "findings": [
            {
                "name": one.name,
                "table": one.table.label,
                "rows": one.rows,
                "sampled": one.sampled or None,
                "message": tell(one.found),
                "line": write_line(one.way),
            }
            for one in findings.found
        ],
        "unseen": [table.label for table in findings.unseen],
    }


def make_holdings(database: str, holdings: Holdings, write_line: WriteLine) -> Document:
    return {
        "kind": "survey",
        "database": database,
        "holding": [
            {
                "table": one.holder.way.table.label,
                "column": one.holder.column.name,
                "rows": one.rows,
                "sampled": one.sampled or None,
                "line": write_line(one.holder.way),
            }
            for one in holdings.found
        ],
        "unseen": [table.label for table in holdings.unseen],
    }


def _table(one: TableSurvey) -> Document:
    document = {
        "name": one.table.label,
        "type": one.table.kind,
        "rows": one.rows,
        "key": list(one.table.key),
        "references": [_reference(reference) for reference in one.references],
        "referenced_by": [_reference(reference) for reference in one.referenced_by],
        "triggers": [
            {"name": trigger.name, "event": trigger.event} for trigger in one.table.triggers
        ],
        "cautions": make_cautions(one.cautions),
    }
    return document | (_close(one.close, one.table) if one.close else {})


def _close(close: Close, table: Table) -> Document:
    return {
        "columns": [
            {
                "name": column.name,
                "type": column.type,
                "nullable": column.nullable,
                "nulls": profile.nulls,
                "distinct": profile.distinct,
                "odd": {str(kind): rows for kind, rows in close.odd.get(column.name, {}).items()},
                "smallest": profile.smallest,
                "largest": profile.largest,
            }
            for column, profile in close.columns
        ],
        "sample": [dict(zip(table.column_names, row, strict=True)) for row in close.sample],
        "unique": [list(names) for names in close.unique],
    }


def _reference(reference: Reference) -> Document:
    return {
        "reference": str(reference),
        "on_delete": reference.on_delete,
        "indexed": reference.is_indexed,
        "broken": reference.broken or None,
    }


def make_cautions(cautions: Sequence[Caution], voice: Voice = Voice.COMMAND_LINE) -> list[Document]:
    return [
        {"name": caution.name, "subject": caution.subject, "message": tell(caution.found, voice)}
        for caution in cautions
    ]


def make_preview(preview: Preview) -> Document:
    reach = preview.reach
    return {
        "kind": "preview",
        "database": preview.database,
        "table": reach.selection.table.label,
        "table_rows": reach.table_rows,
        "matched": reach.matched,
        "missing": preview.missing,
        "missing_keys": [list(key) for key in preview.missing_keys],
        "repeated": preview.repeated,
        "sample": [dict(zip(preview.columns, row, strict=True)) for row in preview.sample],
        "reach": describe_reach(reach),
        "stops": make_stops(preview),
        "cautions": make_cautions(preview.cautions, voice_of(preview)),
        "parts": [{"condition": part.text, "rows": part.rows} for part in preview.parts],
        "by_time": [
            {"period": one.name or None, "goes": one.goes, "stays": one.stays}
            for one in (preview.by_time.periods if preview.by_time else ())
        ],
        "no_matches": [_make_no_match(one) for one in preview.no_matches],
        "hints": [tell(one, voice_of(preview)) for one in preview.hints],
        "refusals": [tell(one, voice_of(preview)) for one in preview.refusals],
        **make_changes(preview),
    }


def make_review(review: Review) -> Document:
    return {
        "kind": "review",
        "statements": [
            {
                "line": verdict.written.line,
                "statement": verdict.written.text,
                "table": verdict.reach.selection.table.label if verdict.reach else None,
                "matched": verdict.reach.matched if verdict.reach else None,
                "reach": describe_reach(verdict.reach) if verdict.reach else [],
                "cautions": make_cautions([*verdict.doubts, *verdict.cautions]),
                "order": list(map(tell, verdict.faults)),
                "notes": list(map(tell, verdict.notes)),
                "unjudged": verdict.unjudged or None,
            }
            for verdict in review.verdicts
        ],
        "proposed_order": [written.line for written in review.proposed],
    }


def make_collisions(preview: Preview) -> list[Document]:
    return [
        {
            "table": collision.table.label,
            "columns": list(collision.columns),
            "rows": collision.rows,
            "pairs": [
                {"row": list(row), "collides_with": list(other)} for row, other in collision.pairs
            ],
            "dropped": collision.dropped,
        }
        for collision in preview.reach.collisions
    ]


def make_stops(preview: Preview) -> list[Document]:
    return [
        {
            "table": stop.table.label,
            "rows": stop.rows,
            "via": str(stop.via) if stop.via else None,
            "reason": tell(stop.reason, voice_of(preview)),
            "lift": tell_maybe(stop.lift, voice_of(preview)),
        }
        for stop in preview.reach.stops
    ]


def make_map(database: str, found: TableMap) -> Document:
    return {
        "kind": "map",
        "database": database,
        "tables": [
            {"name": table.label, "order": place, "counts": dict(found.counts.get(table, {}))}
            for place, table in enumerate(found.tables, 1)
        ],
        "references": [_reference(reference) for reference in found.references],
        "cycles": [[table.label for table in cycle] for cycle in found.cycles],
        "cautions": make_cautions(found.cautions),
    }


def _make_step(step: StepAccount) -> Document:
    return {
        "step": step.preview.step,
        "table": step.preview.selection.table.label,
        "matched": step.preview.reach.matched,
        "tally": describe_tally(step.tally) if step.tally else [],
        "cautions": make_cautions(step.preview.cautions, voice_of(step.preview)),
    }


def _make_progress(progress: Progress) -> Document:
    return {
        "done": progress.batches,
        "taken": progress.done,
        "chosen": progress.total,
        "left": progress.left,
    }


def _make_remarks(kind: str, result: RunResult) -> Document:
    remarks: Document = {"notes": list(result.notes)} if kind == "restore" else {}
    if result.afterwards:
        remarks["afterwards"] = [tell(found) for found in result.afterwards]
    return remarks


def make_run(kind: str, result: RunResult) -> Document:
    document: Document = {
        "kind": kind,
        "outcome": result.outcome.label,
        "run": result.run or None,
        "tally": describe_tally(result.tally) if result.tally else [],
        "cautions": make_cautions(result.preview.cautions, voice_of(result.preview))
        if result.preview
        else [],
    }
    if result.preview and result.preview.difference:
        document |= make_changes(result.preview)
    if result.steps:
        document["steps"] = [_make_step(step) for step in result.steps]
    if result.progress:
        document["batches"] = _make_progress(result.progress)
    if result.preview and result.preview.duplicates:
        document["collisions"] = make_collisions(result.preview)
    document |= _make_remarks(kind, result)
    if result.reason or result.outcome.label != "committed":
        document["reason"] = result.reason or result.outcome.sentence
    return document
