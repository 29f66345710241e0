"""survey --findings and survey --holding"""

from __future__ import annotations

from yeldro.cli.progress import Bar
from yeldro.cli.request import make_line
from yeldro.cli.screen import Screen
from yeldro.core.database.connection import Database
from yeldro.core.findings.finding import Way
from yeldro.core.model.schema import Table
from yeldro.options import COMMAND_OPTIONS, SurveyOptions
from yeldro.report.documents import make_findings, make_holdings
from yeldro.report.findings import render_findings, render_holdings
from yeldro.usecases.findings import find_findings, find_holding
from yeldro.usecases.survey import find_tables


def show_search(database: Database, options: SurveyOptions, screen: Screen) -> None:
    """Look for what could be cleaned up, or for a value, with a bar on the terminal meanwhile."""
    tables = [table for table in find_tables(database, options.tables) if table.kind == "table"]
    bar = Bar("looked at", "tables")

    def watch(done: int, total: int, table: Table) -> None:
        bar.move(done, total, table.label)

    def write_line(way: Way) -> str:
        kind = COMMAND_OPTIONS[way.command]
        if way.command == "survey":
            given = kind(tables=(way.table.label,), db=options.db)
        else:
            given = kind(table=way.table.label, db=options.db, **way.options)
        return make_line(way.command, given)

    try:
        if options.holding is None:
            findings = find_findings(database, tables, options.wait, watch)
            document = make_findings(database.name, findings, write_line)
            shown = render_findings(database.title, findings, write_line)
        else:
            holdings = find_holding(database, tables, options.holding, options.wait, watch)
            document = make_holdings(database.name, holdings, write_line)
            shown = render_holdings(database.title, holdings, write_line)
    finally:
        bar.stop()
    if options.format == "json":
        screen.write_document(document)
    else:
        screen.show(shown)
