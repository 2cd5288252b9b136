"""The floor: read the same inputs and write the same output with PyArrow, and nothing between.

Usage: floor.py OUTPUT INPUT..., OUTPUT being "" where nothing is written. Prints the
seconds that the loading of the output took, which do not count, and peak memory in MB.
"""

from __future__ import annotations

import resource
import sys
import time

import pyarrow.csv as pacsv
import pyarrow.parquet as pq


def read(path: str) -> object:
    return pq.read_table(path) if path.endswith(".parquet") else pacsv.read_csv(path)


def main() -> None:
    output, *inputs = sys.argv[1:]
    pause = time.perf_counter()
    result = None
    if not output:
        pass
    elif output.endswith((".csv", ".tsv")):
        result = pacsv.read_csv(output)
    elif output.endswith(".dat"):
        options = pacsv.ReadOptions(autogenerate_column_names=True)
        result = pacsv.read_csv(output, options, pacsv.ParseOptions(delimiter=" "))
    else:
        result = pq.read_table(output)
    paused = time.perf_counter() - pause
    tables = [read(path) for path in inputs]
    if result is None:
        pass
    elif output.endswith(".parquet"):
        pq.write_table(result, output + ".floor")
    else:
        delimiter = " " if output.endswith(".dat") else ","
        pacsv.write_csv(result, output + ".floor", pacsv.WriteOptions(delimiter=delimiter))
    del tables
    print(paused, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)


main()
