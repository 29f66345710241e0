"""`schema.json`: what the tables of a run in batches were made of when it was shown."""

from __future__ import annotations

import json
from pathlib import Path

from yeldro.core.model.schema import TableName
from yeldro.core.model.shape import PartKind, Shape
from yeldro.errors import ArchiveFailed
from yeldro.store.disk import write_private

SHAPE = "schema.json"


def write_shape(folder: Path, shape: Shape) -> None:
    found = [
        {
            "schema": name.schema,
            "table": name.name,
            "parts": [[kind, part, text] for (kind, part), text in sorted(parts.items())],
        }
        for name, parts in sorted(shape.items())
    ]
    text = json.dumps(found, ensure_ascii=False, indent=1)
    try:
        write_private(folder / SHAPE, lambda file: file.write(f"{text}\n"))
    except OSError as error:
        raise ArchiveFailed(
            f"The run record {folder} cannot be written: {error.strerror}."
        ) from error


def read_shape(folder: Path) -> Shape:
    """ArchiveFailed where there is none, or none of ours."""
    path = folder / SHAPE
    try:
        found = json.loads(path.read_bytes())
        return {
            TableName(str(one["schema"]), str(one["table"])): {
                (PartKind(kind), str(part)): str(text) for kind, part, text in one["parts"]
            }
            for one in found
        }
    except OSError:
        raise ArchiveFailed(
            f"There is no {path}, so nobody knows what the run was shown."
        ) from None
    except (ValueError, TypeError, KeyError):
        raise ArchiveFailed(f"{path} is damaged.") from None
