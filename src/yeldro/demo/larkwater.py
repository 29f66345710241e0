"""Larkwater: an invented network of river gauges, made from a fixed seed. Nothing in it is real.

It holds every shape that the job meets: see docs/demo.md for a list of what is planted where.
"""

from __future__ import annotations

import math
import sqlite3
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from pathlib import Path
from random import Random
from typing import Any

from msgspec import Struct

# Fixed, so that the figures of the pages and pictures hold.
SEED = 20190
STATIONS = 42
# Stations that were only tried out: the rows that are to go first.
TRIALS = (7, 19, 33)
READINGS_PER_STATION = 476
ORPHAN_READINGS = 24

SCHEMA = """
CREATE TABLE regions (
  code TEXT PRIMARY KEY NOT NULL,
  name TEXT NOT NULL
);
CREATE TABLE rivers (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  region_code TEXT NOT NULL REFERENCES regions (code)
);
CREATE TABLE observers (
  id INTEGER PRIMARY KEY,
  name TEXT NOT NULL,
  email TEXT,
  phone TEXT,
  town TEXT,
  registered_on DATE NOT NULL
);
CREATE TABLE stations (
  id INTEGER PRIMARY KEY,
  code TEXT NOT NULL UNIQUE,
  name TEXT NOT NULL,
  river_id INTEGER NOT NULL REFERENCES rivers (id) ON DELETE RESTRICT,
  opened_on DATE NOT NULL,
  closed_on DATE,
  is_trial BOOLEAN NOT NULL DEFAULT 0,
  main_sensor_id INTEGER REFERENCES sensors (id) ON DELETE SET NULL
);
CREATE TABLE sensors (
  id INTEGER PRIMARY KEY,
  code TEXT NOT NULL UNIQUE,
  station_id INTEGER NOT NULL REFERENCES stations (id) ON DELETE CASCADE,
  kind TEXT NOT NULL,
  fitted_on DATE NOT NULL,
  replaced_by_id INTEGER REFERENCES sensors (id) ON DELETE NO ACTION
);
CREATE TABLE calibrations (
  sensor_id INTEGER NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
  number INTEGER NOT NULL,
  performed_on DATE NOT NULL,
  offset_m REAL NOT NULL,
  PRIMARY KEY (sensor_id, number)
);
CREATE TABLE readings (
  id INTEGER PRIMARY KEY,
  sensor_id INTEGER NOT NULL REFERENCES sensors (id) ON DELETE CASCADE,
  measured_at TIMESTAMP NOT NULL,
  level_m REAL,
  battery_v REAL,
  upload INTEGER NOT NULL
);
CREATE TABLE visits (
  id INTEGER PRIMARY KEY,
  station_id INTEGER NOT NULL REFERENCES stations (id) ON DELETE CASCADE,
  visited_on DATE NOT NULL,
  observer_id INTEGER NOT NULL REFERENCES observers (id) ON DELETE RESTRICT,
  reviewer_id INTEGER REFERENCES observers (id) ON DELETE SET NULL,
  remark TEXT
);
CREATE TABLE photos (
  id INTEGER PRIMARY KEY,
  visit_id INTEGER REFERENCES visits (id) ON DELETE NO ACTION,
  file_name TEXT NOT NULL,
  caption TEXT
);
CREATE TABLE alerts (
  id INTEGER PRIMARY KEY,
  station_id INTEGER NOT NULL REFERENCES stations (id) ON DELETE CASCADE,
  raised_at TIMESTAMP NOT NULL,
  kind TEXT NOT NULL,
  level_m REAL,
  sensor_id INTEGER,
  calibration_number INTEGER,
  FOREIGN KEY (sensor_id, calibration_number) REFERENCES calibrations (sensor_id, number) ON DELETE
  SET NULL
);
CREATE TABLE logger_lines (
  sensor_code TEXT,
  received_at TIMESTAMP,
  line TEXT
);
CREATE TABLE removals (
  id INTEGER PRIMARY KEY,
  station_code TEXT NOT NULL,
  removed_at TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP
);
CREATE INDEX rivers_region ON rivers (region_code);
CREATE INDEX stations_river ON stations (river_id);
CREATE INDEX stations_main_sensor ON stations (main_sensor_id);
CREATE INDEX sensors_station ON sensors (station_id);
CREATE INDEX sensors_replaced_by ON sensors (replaced_by_id);
CREATE INDEX readings_sensor ON readings (sensor_id, measured_at);
CREATE INDEX visits_station ON visits (station_id);
CREATE INDEX visits_observer ON visits (observer_id);
CREATE INDEX visits_reviewer ON visits (reviewer_id);
CREATE INDEX alerts_station ON alerts (station_id);
CREATE INDEX alerts_calibration ON alerts (sensor_id, calibration_number);
CREATE VIEW closed_stations AS
  SELECT id, code, name, closed_on FROM stations WHERE closed_on IS NOT NULL;
CREATE TRIGGER station_removed AFTER DELETE ON stations BEGIN
  INSERT INTO removals (station_code) VALUES (old.code);
END;
"""

_REGIONS = (
    ("EF", "East Fenmarch"),
    ("HL", "High Larks"),
    ("NM", "North Mere"),
    ("SV", "Sallowvale"),
)
_RIVERS = (
    "Larkwater",
    "Mirrow",
    "Hesk",
    "Sallow Beck",
    "Greywith",
    "Tarnel",
    "Brindle Water",
    "Quenna",
    "Yssel Burn",
)
_SITES = (
    "Old Ferry",
    "Upper Weir",
    "Mill Race",
    "Stone Ford",
    "Reedbank",
    "Hollow Bridge",
    "Otter Lock",
    "Three Alders",
)
_GIVEN = (
    "Quel",
    "Vost",
    "Ithr",
    "Mabr",
    "Drun",
    "Eskel",
    "Tarv",
    "Olw",
    "Siv",
    "Pell",
    "Runo",
    "Zeth",
)
_GIVEN_ENDS = ("a", "en", "or", "ith", "une", "ek")
_FAMILY = ("Orrow", "Velk", "Tams", "Brix", "Dunm", "Fenl", "Gristl", "Hathr", "Ulv", "Skerr")
_FAMILY_ENDS = ("mere", "oake", "ard", "und", "ivane")
_TOWNS = ("Larkhythe", "Merefold", "Sedgeby Cross", "Tarnel Head", "Greywith")
_REMARKS = (
    "all well",
    "cleared weed from the intake",
    "replaced the battery",
    "ice on the staff",
    None,
    "",
)
# Fixed too: a demo that changes with the calendar could not be described.
_TODAY = date(2026, 6, 1)
_HOUR = timedelta(hours=1)


class _Sensor(Struct, frozen=True):
    id: int
    code: str
    kind: str
    fitted_on: date
    replaced_by_id: int | None


class _Station(Struct, frozen=True):
    id: int
    river_id: int
    opened_on: date
    closed_on: date | None
    is_trial: bool
    sensors: tuple[_Sensor, ...]

    @property
    def code(self) -> str:
        return f"LW-{self.id:03d}"

    @property
    def ends_on(self) -> date:
        return self.closed_on or _TODAY

    @property
    def main_sensor(self) -> _Sensor:
        return next(sensor for sensor in reversed(self.sensors) if sensor.kind == "level")

    def random(self, purpose: str) -> Random:
        """Chance of its own for each purpose, so that tables can be made one after the other,
        without memory."""
        return Random(f"{SEED}:{self.id}:{purpose}")


def make_larkwater(path: Path, scale: int = 1) -> None:
    """Make the database in a new file, the same bytes each time. `scale` multiplies the number of
    stations.

    Time is linear in `scale` and memory does not grow with it. FileExistsError where the file is
    there.
    """
    path.touch(exist_ok=False)
    connection = sqlite3.connect(path, isolation_level=None)
    try:
        connection.execute("PRAGMA foreign_keys = OFF")  # the orphans are planted
        connection.executescript(f"BEGIN;{SCHEMA}")
        for table, rows in list_tables(scale):
            first = next(rows)
            marks = ", ".join("?" * len(first))
            connection.execute(f"INSERT INTO {table} VALUES ({marks})", first)
            connection.executemany(f"INSERT INTO {table} VALUES ({marks})", rows)
        connection.execute("COMMIT")
    finally:
        connection.close()


def list_tables(scale: int) -> Iterator[tuple[str, Iterator[tuple[Any, ...]]]]:
    """The rows of each table, in the order of its columns."""
    yield "regions", iter(_REGIONS)
    yield "rivers", ((i, name, _REGIONS[i % 4][0]) for i, name in enumerate(_RIVERS, 1))
    yield "observers", _observers(scale)
    yield "stations", _station_rows(scale)
    yield "sensors", _sensor_rows(scale)
    yield "calibrations", _calibrations(scale)
    yield "readings", _readings(scale)
    yield "visits", _visits(scale)
    yield "photos", _photos(scale)
    yield "alerts", _alerts(scale)
    yield "logger_lines", _logger_lines(scale)


def _stations(scale: int) -> Iterator[_Station]:
    next_sensor = 1
    for number in range(1, STATIONS * scale + 1):
        chance = Random(f"{SEED}:{number}:station")
        opened = date(2009, 1, 1) + timedelta(days=chance.randrange(3000))
        closed = opened + timedelta(days=chance.randrange(700, 2600)) if number % 5 == 0 else None
        levels = 1 + chance.randrange(4) if number % 3 else 4
        span = ((closed or _TODAY) - opened).days
        fitted = [opened + timedelta(days=span * place // levels) for place in range(levels)]
        ids = list(range(next_sensor, next_sensor + levels))
        sensors = [
            _Sensor(
                one, f"S{one:05d}", "level", day, ids[place + 1] if place + 1 < levels else None
            )
            for place, (one, day) in enumerate(zip(ids, fitted, strict=True))
        ]
        if number % 4 == 0:
            sensors.append(
                _Sensor(next_sensor + levels, f"S{next_sensor + levels:05d}", "rain", opened, None)
            )
        next_sensor += len(sensors)
        yield _Station(
            number,
            1 + chance.randrange(len(_RIVERS)),
            opened,
            closed,
            number % STATIONS in TRIALS,
            tuple(sensors),
        )


def _station_rows(scale: int) -> Iterator[tuple[Any, ...]]:
    for station in _stations(scale):
        site = _SITES[station.id % len(_SITES)]
        name = f"{_RIVERS[station.river_id - 1]} at {site}" + (
            " (trial)" if station.is_trial else ""
        )
        closed = station.closed_on.isoformat() if station.closed_on else None
        yield (
            station.id,
            station.code,
            name,
            station.river_id,
            station.opened_on.isoformat(),
            closed,
            int(station.is_trial),
            station.main_sensor.id,
        )


def _sensor_rows(scale: int) -> Iterator[tuple[Any, ...]]:
    for station in _stations(scale):
        for one in station.sensors:
            yield (
                one.id,
                one.code,
                station.id,
                one.kind,
                one.fitted_on.isoformat(),
                one.replaced_by_id,
            )


def _calibrations(scale: int) -> Iterator[tuple[Any, ...]]:
    for station in _stations(scale):
        chance = station.random("calibrations")
        for sensor in station.sensors:
            for number in (1, 2):
                day = sensor.fitted_on + timedelta(days=30 * number)
                yield sensor.id, number, day.isoformat(), round(chance.gauss(0, 0.008), 3)


def _level(station: _Station, moment: datetime, chance: Random) -> float:
    """Metres: a height of its own, high water in early spring, a small daily tide from the mills,
    some noise."""
    season = 0.42 * math.cos(2 * math.pi * (moment.timetuple().tm_yday - 75) / 365)
    day = 0.04 * math.sin(2 * math.pi * moment.hour / 24)
    return round(1.1 + station.id % 7 * 0.19 + season + day + chance.gauss(0, 0.015), 3)


def _readings(scale: int) -> Iterator[tuple[Any, ...]]:
    """Every three hours on the main sensor up to the station's end, with gaps; some uploads came
    twice."""
    number = 0
    for station in _stations(scale):
        chance = station.random("readings")
        sensor = station.main_sensor
        moment = (
            datetime.combine(station.ends_on, datetime.min.time())
            - READINGS_PER_STATION * 3 * _HOUR
        )
        battery, upload, batch = 12.9, 1, []
        for _ in range(READINGS_PER_STATION):
            moment += 3 * _HOUR * (1 if chance.random() > 0.004 else chance.randrange(8, 40))
            battery = 12.9 if battery < 11.6 else battery - 0.004
            level = None if chance.random() < 0.006 else _level(station, moment, chance)
            batch.append((sensor.id, moment.isoformat(" "), level, round(battery, 2)))
            if len(batch) == 56:
                for _ in range(2 if (station.id * 7 + upload) % 29 == 0 else 1):
                    for row in batch:
                        number += 1
                        yield number, *row, upload
                    upload += 1
                batch = []
        for row in batch:
            number += 1
            yield number, *row, upload
    gone = 90_000 * scale
    for place in range(ORPHAN_READINGS):
        number += 1
        yield (
            number,
            gone + place % 2,
            (datetime(2018, 3, 1) + place * 3 * _HOUR).isoformat(" "),
            0.731,
            12.1,
            1,
        )


def _observers(scale: int) -> Iterator[tuple[Any, ...]]:
    """Every fifth is registered twice: in another case, with blanks, and without some of the
    details."""
    number = 0
    for person in range(28 * scale):
        chance = Random(f"{SEED}:{person}:observer")
        given = chance.choice(_GIVEN) + chance.choice(_GIVEN_ENDS)
        family = chance.choice(_FAMILY) + chance.choice(_FAMILY_ENDS)
        email = f"{given}.{family}{person}@larkwater.example".lower()
        phone = f"0555 {chance.randrange(100, 999)} {chance.randrange(100, 999)}"
        day = date(2010, 1, 1) + timedelta(days=chance.randrange(4000))
        number += 1
        yield number, f"{given} {family}", email, phone, chance.choice(_TOWNS), day.isoformat()
        if person % 5 == 0:
            number += 1
            later = (day + timedelta(days=400)).isoformat()
            yield number, f" {given}  {family.upper()} ", f"{email.title()} ", "", None, later


def _visits(scale: int) -> Iterator[tuple[Any, ...]]:
    number = 0
    observers = 34 * scale
    for station in _stations(scale):
        chance = station.random("visits")
        for place in range(4):
            number += 1
            day = station.opened_on + timedelta(days=90 + 180 * place)
            reviewer = 1 + chance.randrange(observers) if place % 2 else None
            yield (
                number,
                station.id,
                day.isoformat(),
                1 + chance.randrange(observers),
                reviewer,
                chance.choice(_REMARKS),
            )


def _photos(scale: int) -> Iterator[tuple[Any, ...]]:
    """One of every second visit, and three whose visit is gone."""
    visits = 4 * STATIONS * scale
    for number in range(1, visits // 2 + 1):
        yield (
            number,
            number * 2,
            f"lw{number:05d}.jpg",
            None if number % 3 else "staff gauge, looking upstream",
        )
    for extra in range(1, 4):
        number = visits // 2 + extra
        yield number, visits + 100 + extra, f"lw{number:05d}.jpg", "visit entered on paper"


def _alerts(scale: int) -> Iterator[tuple[Any, ...]]:
    """High water names the calibration that the level rests on; some name a sensor but no
    calibration."""
    number = 0
    for station in _stations(scale):
        chance = station.random("alerts")
        for place in range(3):
            number += 1
            moment = datetime.combine(station.ends_on, datetime.min.time()) - timedelta(
                days=40 * place + 2
            )
            kind = ("high water", "battery low", "no data")[place]
            sensor = station.main_sensor.id if place < 2 else None
            calibration = 1 + chance.randrange(2) if place == 0 else None
            level = round(2.4 + chance.random(), 2) if place == 0 else None
            yield number, station.id, moment.isoformat(" "), kind, level, sensor, calibration


def _logger_lines(scale: int) -> Iterator[tuple[Any, ...]]:
    """The raw lines of six loggers, of which two files were loaded twice. No key tells the copies
    apart."""
    for station in _stations(scale):
        if station.id % 7:
            continue
        chance = station.random("logger")
        start = datetime.combine(station.ends_on, datetime.min.time())
        lines = []
        code = station.main_sensor.code
        for place in range(30):
            moment = start + place * _HOUR
            level = _level(station, moment, chance)
            lines.append((code, moment.isoformat(" "), f"{code};{place:04d};{level:.3f};OK"))
        yield from lines
        if station.id % 3 == 0:
            yield from lines
