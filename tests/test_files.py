"""Files are read with one clear line for what is wrong, and written whole or not at all."""

import os
from pathlib import Path

import pytest

from oarlock.errors import Cancelled, InputError, LinkError, OarlockError
from oarlock.files import read_text, write_atomic


def test_a_missing_file_is_named(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="no such file") as caught:
        read_text(tmp_path / "gone.toml")
    assert "gone.toml" in caught.value.place


def test_binary_and_foreign_encodings_are_told_apart(tmp_path: Path) -> None:
    path = tmp_path / "a"
    path.write_bytes(b"\x7fELF\0\0")
    with pytest.raises(InputError, match="not a text file"):
        read_text(path)
    path.write_bytes(b"fine\nna\xefve\n")
    with pytest.raises(InputError, match="line 2 is not UTF-8"):
        read_text(path)


def test_writing_keeps_the_old_content_beside(tmp_path: Path) -> None:
    path = tmp_path / "gains.h"
    assert write_atomic(path, b"one") is None
    first = write_atomic(path, b"two")
    second = write_atomic(path, b"three")
    assert path.read_bytes() == b"three"
    assert first is not None
    assert second is not None
    assert (first.read_bytes(), second.read_bytes()) == (b"one", b"two")


def test_mode_and_link_are_kept(tmp_path: Path) -> None:
    path, link = tmp_path / "real.h", tmp_path / "link.h"
    path.write_bytes(b"one")
    path.chmod(0o640)
    link.symlink_to(path)
    write_atomic(link, b"two", backup=False)
    assert link.is_symlink()
    assert path.read_bytes() == b"two"
    assert path.stat().st_mode & 0o777 == 0o640


def test_a_failed_write_leaves_the_old_file_and_no_rubbish(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "gains.h"
    path.write_bytes(b"one")

    def full(_handle: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(InputError, match="no space left") as caught:
        write_atomic(path, b"two")
    assert "Make room" in caught.value.remedy
    assert path.read_bytes() == b"one"
    assert [p.name for p in tmp_path.iterdir()] == ["gains.h"]


def test_a_folder_that_is_not_there(tmp_path: Path) -> None:
    with pytest.raises(InputError, match="cannot write"):
        write_atomic(tmp_path / "no" / "gains.h", b"x")


def test_errors_print_as_one_line() -> None:
    error = InputError("cause\nwith a break", place="here", remedy="Do this")
    assert str(error) == "here: cause with a break. Do this"
    assert str(error.at("file")) == "file, here: cause with a break. Do this"
    assert isinstance(error, ValueError)
    assert isinstance(LinkError("x"), ConnectionError)
    assert isinstance(Cancelled(), OarlockError)


def test_a_crash_before_the_rename_leaves_the_old_file_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    path = tmp_path / "gains.h"
    path.write_bytes(b"one")

    def crash(_self: Path, _target: Path) -> Path:
        raise OSError(5, "Input/output error")

    monkeypatch.setattr(Path, "replace", crash)
    with pytest.raises(InputError, match="cannot write"):
        write_atomic(path, b"two")
    assert path.read_bytes() == b"one"


def test_a_write_puts_a_new_file_in_the_old_ones_place(tmp_path: Path) -> None:
    """A reader that has the old file open keeps the whole of it."""
    path = tmp_path / "gains.h"
    path.write_bytes(b"one")
    with path.open("rb") as reader:
        write_atomic(path, b"twenty-two", backup=False)
        assert reader.read() == b"one"
    assert path.read_bytes() == b"twenty-two"
