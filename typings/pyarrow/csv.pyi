# Reading and writing of delimited text.
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Self

from pyarrow import BufferOutputStream, BufferReader, DataType, RecordBatch, Schema, Table

class InvalidRow:
    expected_columns: int
    actual_columns: int
    number: int | None
    text: str

class ReadOptions:
    def __init__(
        self,
        *,
        column_names: Sequence[str] = ...,
        autogenerate_column_names: bool = ...,
        skip_rows: int = ...,
        skip_rows_after_names: int = ...,
        encoding: str = ...,
        block_size: int = ...,
    ) -> None: ...

class ParseOptions:
    def __init__(
        self,
        delimiter: str = ...,
        *,
        newlines_in_values: bool = ...,
        ignore_empty_lines: bool = ...,
        invalid_row_handler: Callable[[InvalidRow], str] | None = ...,
    ) -> None: ...

class ConvertOptions:
    def __init__(
        self,
        *,
        column_types: Mapping[str, DataType] = ...,
        include_columns: Sequence[str] = ...,
        null_values: Sequence[str] = ...,
        true_values: Sequence[str] = ...,
        false_values: Sequence[str] = ...,
        strings_can_be_null: bool = ...,
        quoted_strings_can_be_null: bool = ...,
    ) -> None: ...

class WriteOptions:
    def __init__(
        self, *, include_header: bool = ..., delimiter: str = ..., quoting_style: str = ..., batch_size: int = ...
    ) -> None: ...

class CSVStreamingReader:
    schema: Schema
    def __iter__(self) -> Iterator[RecordBatch]: ...
    def __enter__(self) -> Self: ...
    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None: ...

def read_csv(
    source: Path | str | BufferReader,
    read_options: ReadOptions | None = ...,
    parse_options: ParseOptions | None = ...,
    convert_options: ConvertOptions | None = ...,
) -> Table: ...
def open_csv(
    source: Path | str | BufferReader,
    read_options: ReadOptions | None = ...,
    parse_options: ParseOptions | None = ...,
    convert_options: ConvertOptions | None = ...,
) -> CSVStreamingReader: ...
def write_csv(table: Table, output: BufferOutputStream | BinaryIO | Path | str, options: WriteOptions | None = ...) -> None: ...
