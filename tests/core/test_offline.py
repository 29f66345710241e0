"""Scripts for servers that nobody connects to: the schema file is read, and every statement can be
read back."""

from __future__ import annotations

import re
import tomllib
from collections import Counter
from datetime import date
from pathlib import Path
from types import SimpleNamespace
from typing import cast

import pytest
import sqlglot
from sqlglot import exp
from tests.conftest import Yeldro

from yeldro.cli.cleanup_jobs import ChosenSteps, read_step
from yeldro.core.cleanup.reading import read_cleanup
from yeldro.core.database.connection import Database
from yeldro.core.model.schema import Family, ReferentialAction
from yeldro.errors import UsageError
from yeldro.offline.schema_file import read_ddl
from yeldro.offline.script_entries import Change, Check, Fill, Finish, Make, Repeat
from yeldro.offline.script_writer import Task, write_entries
from yeldro.offline.targets import TARGETS

SCHEMAS = {
    "sqlserver": """
CREATE TABLE dbo.rivers (id INT IDENTITY(1,1) NOT NULL PRIMARY KEY, name NVARCHAR(40) NOT NULL);
CREATE TABLE dbo.stations (id INT NOT NULL, code NVARCHAR(9) NULL UNIQUE, closed_on DATE, main_id INT,
  river_id INT REFERENCES dbo.rivers (id) ON DELETE CASCADE, twice AS (id * 2), CONSTRAINT pk PRIMARY KEY (id));
CREATE TABLE dbo.sensors (station_id INT NOT NULL, number INT NOT NULL, [order] INT, PRIMARY KEY (station_id, number),
  FOREIGN KEY (station_id) REFERENCES dbo.stations (id) ON DELETE CASCADE);
ALTER TABLE dbo.stations ADD CONSTRAINT own FOREIGN KEY (id, main_id) REFERENCES dbo.sensors (station_id, number);
CREATE TABLE dbo.photos (id INT PRIMARY KEY, station_id INT REFERENCES dbo.Stations ON DELETE SET NULL);
CREATE UNIQUE INDEX rivers_name ON dbo.rivers (name);
""",
    "oracle": """
CREATE TABLE rivers (id NUMBER(9) NOT NULL PRIMARY KEY, name VARCHAR2(40) NOT NULL);
CREATE TABLE stations (id NUMBER(9) NOT NULL, code VARCHAR2(9) UNIQUE, closed_on DATE, main_id NUMBER(9),
  river_id NUMBER(9) REFERENCES rivers (id) ON DELETE CASCADE, CONSTRAINT pk PRIMARY KEY (id));
CREATE TABLE sensors (station_id NUMBER(9) NOT NULL, "number" NUMBER(9) NOT NULL, PRIMARY KEY (station_id, "number"),
  FOREIGN KEY (station_id) REFERENCES stations (id) ON DELETE CASCADE);
ALTER TABLE stations ADD CONSTRAINT own FOREIGN KEY (id, main_id) REFERENCES sensors (station_id, "number");
CREATE TABLE photos (id NUMBER(9) PRIMARY KEY, station_id NUMBER(9) REFERENCES STATIONS ON DELETE SET NULL);
CREATE UNIQUE INDEX rivers_name ON rivers (name);
""",
}
# As tools write them.
WRITTEN = {
    "sqlserver": """
USE [gauges]
GO
/****** Object:  Table [dbo].[stations] ******/
SET QUOTED_IDENTIFIER ON
GO
CREATE TABLE [dbo].[stations](
  [id] [int] IDENTITY(1,1) NOT NULL,
  [code] [nvarchar](9) COLLATE Latin1_General_CI_AS NULL CONSTRAINT [DF_code] DEFAULT ('x; GO'),
  CONSTRAINT [PK_stations] PRIMARY KEY CLUSTERED
(
  [id] ASC
)WITH (PAD_INDEX = OFF, IGNORE_DUP_KEY = OFF) ON [PRIMARY]
) ON [PRIMARY] TEXTIMAGE_ON [PRIMARY]
GO
CREATE TABLE [dbo].[sensors]([id] [int] NOT NULL PRIMARY KEY NONCLUSTERED, [station_id] [int] SPARSE, INDEX i (id),
  twice AS ([id] * 2) PERSISTED NOT NULL, other_id INT FOREIGN KEY REFERENCES dbo.sensors NOT FOR REPLICATION)
GO
CREATE UNIQUE NONCLUSTERED INDEX [IX_a] ON [dbo].[stations] ([code] ASC) WITH (PAD_INDEX = OFF) ON [PRIMARY]
CREATE UNIQUE NONCLUSTERED INDEX [IX_b] ON [dbo].[sensors] ([station_id] ASC) WHERE ([station_id] > 3)
GO
ALTER TABLE [dbo].[sensors]  WITH CHECK ADD  CONSTRAINT [FK_x] FOREIGN KEY([station_id])
REFERENCES [dbo].[stations] ([id])
ON DELETE CASCADE
GO
ALTER TABLE [dbo].[sensors] CHECK CONSTRAINT [FK_x]
ALTER TABLE [dbo].[stations] ADD  CONSTRAINT [DF_s]  DEFAULT ((0)) FOR [code]
ALTER TABLE [dbo].[sensors] ADD virtual BIT NOT NULL DEFAULT ((0))
GO
EXEC sys.sp_addextendedproperty @name=N'x', @value=N'y'
""",
    "oracle": """
CREATE TABLE "GAUGES"."STATIONS"
   (  "ID" NUMBER(9,0) NOT NULL ENABLE,
  "CODE" VARCHAR2(9 CHAR) DEFAULT 'USING INDEX, x',
   CONSTRAINT "PK_S" PRIMARY KEY ("ID")
  USING INDEX PCTFREE 10 INITRANS 2 STORAGE(INITIAL 65536)
  TABLESPACE "USERS"  ENABLE, CONSTRAINT "U" UNIQUE ("CODE") USING INDEX ENABLE
   ) SEGMENT CREATION DEFERRED
  PCTFREE 10 LOGGING TABLESPACE "USERS" ;
CREATE TABLE sensors (id NUMBER(9) GENERATED ALWAYS AS IDENTITY, station_id NUMBER(9) NOT NULL, PRIMARY KEY (id),
  twice NUMBER GENERATED ALWAYS AS (id * 2) VIRTUAL, other_id NUMBER REFERENCES sensors ENABLE, virtual NUMBER(1),
  SUPPLEMENTAL LOG DATA (ALL) COLUMNS, CONSTRAINT c CHECK (other_id > 0) ENABLE, lag INTERVAL DAY (2) TO SECOND (6));
ALTER TABLE sensors ADD (CONSTRAINT fk FOREIGN KEY (station_id) REFERENCES stations (id) ON DELETE CASCADE ENABLE);
ALTER TABLE sensors MODIFY (station_id NOT NULL ENABLE);
COMMENT ON TABLE sensors IS 'x';
CREATE OR REPLACE TRIGGER t BEFORE INSERT ON sensors FOR EACH ROW BEGIN NULL; END;
/
""",
}
CLEANUP = """
title = "Stations that nobody needs"
[params.day]
type = "date"
default = 2019-01-01
[guards]
max_rows = 900
max_share = 20.0
expect = "1.."
[[steps]]
name = "closed"
delete = "stations"
where = ["closed_on < :day", "code <> 'it''s t.x'"]
expect = "1..9"
[[steps]]
name = "oldest"
delete = "stations"
order_by = "closed_on desc, code"
limit = 3
key = ["1", KEYS]
not_found_in = "rivers"
dependents = { photos = "delete" }
[[steps]]
name = "rivers twice"
dedupe = "rivers"
same = "name"
keep = ["fullest", "newest id", "where name > 'm'"]
then_unique = "rivers_once"
"""


@pytest.mark.parametrize("engine", SCHEMAS)
def test_a_schema_file(engine: str) -> None:
    schema, quoted = read_ddl(SCHEMAS[engine], TARGETS[engine].dialect)
    stations, sensors = schema.find_table("stations"), schema.find_table("SENSORS")
    assert (stations.key, sensors.key) == (("id",), ("station_id", "number"))
    assert [stations.column(name).family for name in ("id", "code", "closed_on")] == [
        Family.INTEGER,
        Family.TEXT,
        Family.DATE,
    ]
    assert [column.nullable for column in stations.columns[:3]] == [False, True, True]
    found = {str(one): one.on_delete for one in schema.references}
    assert found == {
        "stations.river_id -> rivers.id": ReferentialAction.CASCADE,
        "stations.(id, main_id) -> sensors.(station_id, number)": ReferentialAction.NO_ACTION,
        "sensors.station_id -> stations.id": ReferentialAction.CASCADE,
        "photos.station_id -> stations.id": ReferentialAction.SET_NULL,
    }
    assert ({"order", "number"} & quoted) == ({"order"} if engine == "sqlserver" else {"number"})
    assert any(
        index.unique and index.columns == ("name",) for index in schema.find_table("rivers").indexes
    )


@pytest.mark.parametrize("engine", WRITTEN)
def test_a_schema_file_that_a_tool_wrote(engine: str) -> None:
    schema, _ = read_ddl(WRITTEN[engine], TARGETS[engine].dialect)
    stations, sensors = schema.find_table("stations"), schema.find_table("sensors")
    assert [table.key[0].lower() for table in (stations, sensors)] == ["id", "id"]
    assert [(str(one).lower(), one.on_delete) for one in schema.references] == [
        ("sensors.other_id -> sensors.id", ReferentialAction.NO_ACTION),
        ("sensors.station_id -> stations.id", ReferentialAction.CASCADE),
    ]
    assert [column.name.lower() for column in stations.columns] == ["id", "code"]
    assert [column.name for column in sensors.columns][:5] == [
        "id",
        "station_id",
        "twice",
        "other_id",
        "virtual",
    ]
    unique = [
        [index.columns for index in table.indexes if index.unique] for table in (stations, sensors)
    ]
    assert [[name.lower() for (name,) in one] for one in unique] == [["id", "code"], ["id"]]


@pytest.mark.parametrize(
    "text",
    [
        "SELECT 1",
        "CREATE TABLE a (id INT); ALTER TABLE a DROP CONSTRAINT b",
        "MAKE a REFERENCES b",
        "CREATE TABLE a (LIKE b)",
        "CREATE TABLE a (id INT PRIMARY KEY USING INDEX x REFERENCES a)",
        "CREATE TABLE a (id INT, FOREIGN KEY (id) REFERENCES b (id))",
        "CREATE (",
    ],
)
def test_a_schema_file_that_is_none(text: str) -> None:
    with pytest.raises(UsageError, match="schema file"):
        read_ddl(text, "tsql")


@pytest.mark.parametrize("dry", [True, False])
@pytest.mark.parametrize("engine", SCHEMAS)
def test_a_script(yeldro: Yeldro, gauges: Path, engine: str, dry: bool) -> None:
    (gauges.parent / "schema.sql").write_text(SCHEMAS[engine])
    (gauges.parent / "all.toml").write_text(
        CLEANUP.replace("KEYS", ", ".join(f'"{n}"' for n in range(2, 400)))
    )
    line = ["script all.toml --for", engine, "--schema", "schema.sql", *(["--dry"] if dry else [])]
    result = yeldro(*line)
    assert result.status == 0, result.err
    assert "It was not run against a server" in result.out
    code = [part for part in result.out.splitlines() if not part.startswith("--")]
    assert [part for part in code if re.match("COMMIT|ROLLBACK( TRANSACTION)?;", part)][:1] == [
        ("ROLLBACK" if dry else "COMMIT") + (" TRANSACTION;" if engine == "sqlserver" else ";")
    ]
    if engine == "oracle":  # what its client takes
        assert max(map(len, code)) <= 2000
    assert str(date(2019, 1, 1)) in result.out
    assert "it''s t.x" in result.out
    assert result.out.count("all rows of stations match") == 2


@pytest.mark.parametrize("engine", SCHEMAS)
def test_every_statement_can_be_read_back(engine: str) -> None:
    schema, quoted = read_ddl(SCHEMAS[engine], TARGETS[engine].dialect)
    cleanup, faults = read_cleanup(tomllib.loads(CLEANUP.replace("KEYS", '"2", "3"')))
    values = {"day": "date=2019-01-01"}
    chosen = ChosenSteps(Path("all.toml"), cleanup, cleanup.steps, values)
    nowhere = cast(Database, SimpleNamespace(schema=schema, dialect=TARGETS[engine].dialect))
    tasks = [Task(step.name, read_step(nowhere, chosen, step)) for step in cleanup.steps]
    entries = write_entries(schema, TARGETS[engine](quoted), tasks, chosen.limits, "kept")
    found: Counter[str] = Counter()
    for entry in entries:
        match entry:
            case Fill(text) | Finish(text):
                texts = [text]
            case Repeat(fills):
                texts = [fill.statement for _, fill in fills]
            case Change(text, wanted, _):
                texts = [text, wanted]
            case Check(text, _) | Make(_, text):
                texts = [text]
            case _:
                texts = []
        for text in texts:
            tree = sqlglot.parse_one(text, read=TARGETS[engine].dialect)
            assert not isinstance(tree, exp.Command), text
            found[type(tree).__name__] += 1
    assert (faults, found["Select"] > 40) == ([], True), found
    assert (found["Delete"], found["Update"], found["Create"]) == (6, 4, 1), found


def test_what_such_a_script_cannot_do(yeldro: Yeldro, gauges: Path) -> None:
    (gauges.parent / "schema.sql").write_text(SCHEMAS["oracle"])
    for change, said in (
        (("same = ", "fill = true\nsame = "), "goes without --fill"),
        (("same = ", 'ignore = "case"\nsame = '), "goes without --fill, --ignore"),
        (
            ("dedupe = ", 'dependents = { stations = "delete" }\ndedupe = '),
            "does not drop rows that collide",
        ),
        (
            ("limit = 3", 'limit = 3\nseal = { matched = 1, rows = 1, fingerprint = "a" }'),
            "Step oldest is sealed",
        ),
    ):
        (gauges.parent / "all.toml").write_text(CLEANUP.replace(*change).replace("KEYS", '"2"'))
        result = yeldro("script", "all.toml", "--for", "oracle", "--schema", "schema.sql")
        assert (result.status, said in result.err) == (3, True), result.err
    for more in (
        ["--for", "oracle"],
        ["--schema", "schema.sql"],
        ["--for", "oracle", "--schema", "none.sql"],
    ):
        assert yeldro("script", "all.toml", *more).status == 2
