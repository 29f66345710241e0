"""What others notice of a run."""

from __future__ import annotations

FORECAST = {
    "forecast.locks-sqlite": "Until the commit nobody else can write to the file.",
    "forecast.locks-postgres": (
        "Until the commit others wait who want to change these rows, or to add rows that depend on "
        "them. Reading goes on."
    ),
    "forecast.locks-mysql": (
        "Until the commit others wait who want to change these rows, to add rows that depend on "
        "them, or rows between them. Reading goes on."
    ),
    "forecast.full": "The copy may not fit: {free} are free in {folder}.",
    "forecast.none": (
        "No forecast: what would be stopped, or cannot be rolled back, is not rehearsed."
    ),
}
