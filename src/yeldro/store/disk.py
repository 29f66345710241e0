"""Files that only their owner may read, and what others could have written."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

from yeldro.errors import UsageError

try:
    import grp
    import pwd
except ImportError:  # not on Windows, whose files say otherwise who may write them
    grp = pwd = None  # type: ignore[assignment]


def find_stranger(path: Path) -> str:
    """Who else could have written a file, or put files into a folder; "" where nobody could."""
    if pwd is None:
        return ""
    found = path.stat()
    if {found.st_uid, path.lstat().st_uid} - {os.geteuid(), 0}:
        return "it belongs to another user"
    if found.st_mode & stat.S_IWOTH and not (
        stat.S_ISDIR(found.st_mode) and found.st_mode & stat.S_ISVTX
    ):
        return "others may write it"
    if found.st_mode & stat.S_IWGRP and not _is_own_group(found.st_gid):
        return "its group may write it"
    return ""


def _is_own_group(number: int) -> bool:
    """Whether a group has no member but this user, as where every user has one of their own, or is
    the system's."""
    try:
        me, group = pwd.getpwuid(os.geteuid()), grp.getgrgid(number)
    except KeyError:
        return False
    # Many systems give every user a group of their own, which is as good as private.
    return number == 0 or (number == me.pw_gid and set(group.gr_mem) <= {me.pw_name})


def open_private(path: Path) -> TextIO:
    """A new file that nobody else can read. It follows no link, and replaces nothing."""
    return os.fdopen(create_private(path), "w", encoding="utf-8")


@contextmanager
def writing_new(path: Path) -> Iterator[TextIO]:
    """A new file for a person, which is gone again after an error. UsageError where it cannot be,
    or is there already."""
    try:
        file = open_private(path)
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}.") from None
    try:
        with file:
            yield file
    except BaseException:
        path.unlink(missing_ok=True)
        raise


def create_private(path: Path) -> int:
    """The same, empty, as the number of the open file."""
    return os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | getattr(os, "O_NOFOLLOW", 0), 0o600)


def open_to_add(path: Path) -> TextIO:
    """A file of lines that grow, made private where it is new. It follows no link."""
    flags = os.O_CREAT | os.O_APPEND | os.O_WRONLY | getattr(os, "O_NOFOLLOW", 0)
    return os.fdopen(os.open(path, flags, 0o600), "a", encoding="utf-8")


def append_synced(path: Path, line: str, *, at_once: bool = True) -> None:
    """Add a line to a private file. It is on disk when this returns, or with the next one."""
    is_new = not path.exists()
    with open_to_add(path) as file:
        file.write(line)
        file.flush()
        if at_once:
            os.fsync(file.fileno())
    if is_new:
        sync(path.parent)


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """A new, private, empty file to be filled by its path. At the end it is synced and takes the
    place of `path`; after an error it is gone, and the old one is as it was."""
    new = path.with_name(f".{path.name}.{os.getpid()}.new")
    new.unlink(missing_ok=True)
    os.close(create_private(new))
    try:
        yield new
        if path.is_file() and not path.is_symlink():
            new.chmod(
                stat.S_IMODE(path.stat().st_mode)
            )  # whom a person let read it before may read it again
        sync(new)
        # The name goes over to the new file in one step: nobody sees half of it.
        new.replace(path)
    except BaseException:
        new.unlink(missing_ok=True)
        raise
    # A name is on disk only once its folder is.
    sync(path.parent)


def write_private(path: Path, fill: Callable[[TextIO], object]) -> None:
    """Write a whole file so that after a crash it is either as it was or as it is to be."""
    with replacing(path) as new, new.open("w", encoding="utf-8") as file:
        fill(file)


def sync(path: Path) -> None:
    """Wait until a file, or what a folder holds, is on disk."""
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
