"""Tables of databases: what goes in comes out, and whatever goes wrong leaves what was there."""

from __future__ import annotations

import contextlib
import datetime
import tempfile
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from lomrix.core.errors import FileError
from lomrix.core.steps.delivery import Delivery
from lomrix.core.table.column import Column
from lomrix.core.table.table import Table
from lomrix.files.database import mysql, postgresql, source, sqlite
from lomrix.files.database.sink import DatabaseSink
from lomrix.files.reading import ReadSettings
from lomrix.files.registry import open_source
from lomrix.files.scratch import TableStore
from lomrix.job import budget
from tests.servers import REAL_SERVERS, SERVERS, Place, place_on
from tests.tables import lomrix

TEXTS = st.text(st.characters(codec="utf-8", exclude_characters="\0"), min_size=1, max_size=8)
VALUES = {
    "integer": st.integers(-(2**63), 2**63 - 1),
    "number": st.floats(allow_nan=False, allow_infinity=False, allow_subnormal=False),
    "boolean": st.booleans(),
    "date": st.dates(datetime.date(1000, 1, 1)).map(np.datetime64),
    "datetime": st.datetimes(datetime.datetime(1000, 1, 1)).map(lambda at: np.datetime64(at, "us")),
    "string": TEXTS,
}


@pytest.fixture
def place(request: pytest.FixtureRequest, tmp_path: Path):  # type: ignore[no-untyped-def]
    with place_on(request.param, tmp_path) as made:
        yield made


every_server = pytest.mark.parametrize("place", SERVERS, indirect=True)


@st.composite
def tables(draw: st.DrawFn) -> Table:
    rows = draw(st.integers(0, 7))
    cells = {kind: draw(st.lists(st.none() | one, min_size=rows, max_size=rows)) for kind, one in VALUES.items()}
    return Table({f"a {kind}": Column.of_cells(kind, found) for kind, found in cells.items()}, name="t")  # type: ignore[arg-type]


@pytest.mark.parametrize("kind", SERVERS)
@settings(deadline=None, max_examples=15, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(made=tables())
def test_every_type_comes_back_cell_by_cell(kind: str, made: Table) -> None:
    with tempfile.TemporaryDirectory() as folder, place_on(kind, Path(folder)) as place:
        sink = DatabaseSink.open(place.reference, Delivery(), False)
        sink.check()
        sink.stage(made)
        sink.verify(made)
        sink.commit()
        back = open_source(place.reference, ReadSettings()).read().table
        assert back.names == made.names
        order = np.argsort(np.arange(len(made)))
        for name, column in made.columns.items():
            if len(made) and column.missing_count < len(made):
                assert back[name].type == column.type, name
            assert back[name].fit_type(column.type).take(order).cells() == column.cells(), name
        with in_small_parts():
            store = TableStore(Path(folder))
            assert open_source(place.reference, ReadSettings()).read_into(store, back.names).table.same_as(back)


@contextlib.contextmanager
def in_small_parts() -> Iterator[None]:
    with contextlib.ExitStack() as stack:
        for module, name in ((sqlite, "ROWS"), (mysql, "ROWS"), (source, "ROWS_AT_ONCE"), (postgresql, "PART")):
            stack.enter_context(mock.patch.object(module, name, 2))
        yield


@every_server
def test_a_table_larger_than_the_memory_is_read_in_parts(place: Place, tmp_path: Path) -> None:
    lines = [f"{number:04},{number % 7},{'' if number % 5 else number / 4},ab" for number in range(900)]
    (tmp_path / "a.csv").write_text("\n".join(["id,x,y,z", *lines]) + "\n")
    lomrix("export", "a.csv", "--to", place.reference, cwd=tmp_path)
    words = ["derive", place.reference, "w = x / y", "--out", "o.csv", "--overwrite"]
    lomrix(*words, cwd=tmp_path)
    whole = (tmp_path / "o.csv").read_bytes()
    with mock.patch.object(budget, "LEAST", 1000), in_small_parts():
        output, _ = lomrix(*words, "--memory", "100MB", cwd=tmp_path)
        assert "in parts" not in output
        with mock.patch.object(budget, "parse_memory", lambda text: 30_000):
            output, _ = lomrix(*words, "--memory", "50MB", cwd=tmp_path)
    assert "processed in " in output and (tmp_path / "o.csv").read_bytes() == whole


@every_server
def test_a_table_is_made_replaced_and_added_to(place: Place, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n1,1.5\n2,\n")
    (tmp_path / "b.csv").write_text("id,x\n3,7\n")
    export = ["--to", place.reference, "--primary-key", "id", "--index", "x"]
    lomrix("export", "a.csv", *export, cwd=tmp_path)
    assert place.rows("id") == [(1, 1.5), (2, None)]
    _, error = lomrix("export", "b.csv", *export, cwd=tmp_path, status=3)
    assert "already exists" in error and "--if-exists" in error
    assert place.rows("id") == [(1, 1.5), (2, None)]
    lomrix("export", "b.csv", "--to", place.reference, "--if-exists", "append", cwd=tmp_path)
    assert place.rows("id") == [(1, 1.5), (2, None), (3, 7.0)]
    _, error = lomrix("export", "b.csv", "--to", place.reference, "--if-exists", "append", cwd=tmp_path, status=3)
    assert place.table in error  # the key would stand twice
    assert len(place.rows()) == 3
    lomrix("export", "b.csv", *export, "--if-exists", "replace", cwd=tmp_path)
    lomrix("export", "b.csv", *export, "--overwrite", cwd=tmp_path)
    assert place.rows("id") == [(3, 7)]
    assert place.tables() == [place.table]


@every_server
def test_any_command_reads_and_writes_tables(place: Place, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,ship,x\n01,tern,1\n02,gull,2\n03,tern,4\n")
    lomrix("subset", "a.csv", "--out", place.reference, cwd=tmp_path)
    lomrix("aggregate", place.reference, "--by", "ship", "--stat", "x: sum", "--out", "o.csv", cwd=tmp_path)
    assert (tmp_path / "o.csv").read_text() == "ship,x_sum\ngull,2\ntern,5\n"
    output, _ = lomrix("changes", "a.csv", place.reference, "--key", "id", cwd=tmp_path)
    output, _ = lomrix("subset", place.reference, "--columns", "id", "--where", "x > 1", "--out", "-", cwd=tmp_path)
    assert output == "id\n02\n03\n"
    _, error = lomrix("subset", place.reference, "--out", place.reference, "--overwrite", cwd=tmp_path, status=2)
    assert "is an input" in error
    _, error = lomrix("profile", place.reference + "x", cwd=tmp_path, status=3)
    assert "does not exist" in error and place.table in error


@every_server
def test_names_are_nothing_but_names(place: Place, tmp_path: Path) -> None:
    odd = f'{place.table}"; drop table {place.table}; --'
    (tmp_path / "a.csv").write_text('id,"x""; drop table y",per %,q?\n1,2,3,4\n')
    lomrix("subset", "a.csv", "--out", place.reference, cwd=tmp_path)
    lomrix("export", "a.csv", "--to", f"{place.url}#{odd}", "--primary-key", "id", "--index", "per %", cwd=tmp_path)
    output, _ = lomrix("subset", f"{place.url}#{odd}", "--out", "-", cwd=tmp_path)
    assert output.splitlines()[1] == "1,2,3,4"
    assert place.rows() == [(1, 2, 3, 4)]


@every_server
def test_keys_are_checked_before_the_first_row_is_sent(place: Place, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,visit\n1,0\n1,3\n2,0\n2,\n")
    _, error = lomrix("export", "a.csv", "--to", place.reference, "--primary-key", "id", cwd=tmp_path, status=1)
    assert "2 keys occur in several rows" in error and "(rows 2, 3)" in error
    _, error = lomrix("export", "a.csv", "--to", place.reference, "--primary-key", "id,visit", cwd=tmp_path, status=1)
    assert "visit is missing in 1 row" in error and "row 5" in error
    assert place.tables() == []


@every_server
def test_labels_codes_and_the_dictionary_go_along(place: Place, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,sex\n1,1\n2,2\n3,\n")
    (tmp_path / "d.toml").write_text(
        '[variables.sex]\nlabel = "Sex"\ncodes = "sex"\n[codes.sex]\n1 = "female"\n2 = "male"\n'
    )
    lomrix("export", "a.csv", "-d", "d.toml", "--to", place.reference, "--describe", cwd=tmp_path)
    assert [row[:2] for row in place.execute(f"SELECT variable, label FROM {place.table}_variables")] == [
        ("sex", "Sex")
    ]
    output, _ = lomrix("tally", place.reference, "sex", cwd=tmp_path)
    assert "female" in output and "male" in output
    shown = [*("--to", place.reference), "--show-labels", "sex", "--if-exists", "replace", "--missing-code", "-9"]
    lomrix("export", "a.csv", "-d", "d.toml", *shown, cwd=tmp_path)
    assert [row[1] for row in place.rows("id")] == ["female", "male", "-9"]


@every_server
def test_a_rehearsal_shows_the_table_and_makes_none(place: Place, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,day\nK1,2024-05-06\n")
    words = ["export", "a.csv", "--to", place.reference, "--primary-key", "id", "--rehearse"]
    output, _ = lomrix(*words, "--db-type", "day=VARCHAR(10)", cwd=tmp_path)
    assert (
        "CREATE TABLE" in output
        and "PRIMARY KEY" in output
        and "VARCHAR(10)" in output
        and "Nothing was written" in output
    )
    assert not (tmp_path / "study.db").exists()
    assert place.tables() == []


@every_server
def test_an_empty_table_and_a_wish_that_fits_no_column(place: Place, tmp_path: Path) -> None:
    (tmp_path / "a.csv").write_text("id,x\n")
    for wish in (["--db-type", "y=TEXT"], ["--index", "y"], ["--primary-key", "y"]):
        _, error = lomrix("export", "a.csv", "--to", place.reference, *wish, cwd=tmp_path, status=2)
        assert "No column y" in error
        assert place.tables() == []
    lomrix("export", "a.csv", "--to", place.reference, cwd=tmp_path)
    assert place.rows() == []
    output, _ = lomrix("profile", place.reference, cwd=tmp_path)
    assert "0 rows, 2 columns" in output


@every_server
def test_a_text_of_blanks_is_not_missing(place: Place) -> None:
    sink = DatabaseSink.open(place.reference, Delivery(), overwrite=False)
    sink.check()
    made = Table(
        {"id": Column.of_cells("integer", [1, 2, 3]), "t": Column.of_cells("string", [" ", None, "a "])}, name="t"
    )
    sink.stage(made)
    sink.verify(made)
    sink.commit()
    assert place.rows("id") == [(1, " "), (2, None), (3, "a ")]


@every_server
def test_of_two_writers_that_found_no_table_the_second_is_refused(place: Place) -> None:
    first, second = (DatabaseSink.open(place.reference, Delivery(), overwrite=False) for _ in range(2))
    one = Table({"id": Column.of_cells("integer", [1])}, name="t")
    other = Table({"id": Column.of_cells("integer", [2])}, name="t")
    place.execute(f"DROP TABLE IF EXISTS {place.table}")
    first.check()
    second.check()
    first.stage(one)
    first.commit()
    with pytest.raises(FileError):
        second.stage(other)
        second.commit()
    second.discard()
    assert place.rows("id") == [(1,)]
    assert place.tables() == [place.table]


# As it is stored: no reference system, byte order, kind, and both numbers.
POINT = "00000000" + "01" + "01000000" + "000000000000F03F" + "0000000000000040"
ODD_KINDS = {
    "postgresql": ("a int[], x xml, i interval", "'{1,2}', '<a/>', '1 day'", ["{1,2}", "<a/>", "1 day"]),
    "mysql": ("p POINT, b TINYBLOB", "POINT(1, 2), X'FF00'", [POINT, "FF00"]),
}


@pytest.mark.filterwarnings("ignore:Did not recognize type")
@pytest.mark.parametrize("place", REAL_SERVERS, indirect=True)
def test_kinds_that_only_a_server_has_are_read_as_text(place: Place) -> None:
    kinds, values, texts = ODD_KINDS[place.kind]
    place.execute(f"CREATE TABLE {place.table} ({kinds})")
    place.execute(f"INSERT INTO {place.table} VALUES ({values})")
    table = open_source(place.reference, ReadSettings()).read().table
    assert [column.cells() for column in table.columns.values()] == [[text] for text in texts]
