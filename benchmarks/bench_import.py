"""Importing 2,000,000 rows in several dialects, against reading the same file as text with pyarrow
alone; and how much memory it takes, against the arrays that come out."""

from __future__ import annotations

import csv
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import numpy as np

from figures import line, median, ratio

ROWS, ROUNDS = 2_000_000, 3
WANTED, WANTED_MEMORY = 3.0, 3.0
STAMPS = {
    "ISO with Z": ("%Y-%m-%dT%H:%M:%SZ", ",", "."),
    "day first, decimal comma": ("%d.%m.%Y %H:%M", ";", ","),
    "two columns": ("%Y.%m.%d\t%H:%M:%S", "\t", "."),
    "milliseconds since 1970": ("", ",", "."),
}


def written(path: Path, stamp: str, separator: str, decimal: str) -> None:
    """A made-up walk of prices in a dialect."""
    import pyarrow as pa
    import pyarrow.compute as pc

    times = (1_900_000_000 + 60 * np.arange(ROWS, dtype=np.int64)) * 1_000
    stamps = pa.array(times).view(pa.timestamp("ms"))
    texts = (
        pc.strftime(pc.cast(stamps, pa.timestamp("s")), format=stamp)
        if stamp
        else pa.array(times).cast(pa.string())
    )
    walk = 64_000 + np.cumsum(np.random.default_rng(7).integers(-3, 4, ROWS)) % 9_000
    columns = [texts]
    for ticks in (walk, walk + 20, walk - 20, walk + 1):
        digits = pc.utf8_lpad(pa.array(ticks).cast(pa.string()), 5, padding="0")
        columns.append(pc.binary_join_element_wise("0", digits, decimal))
    rows = pc.binary_join_element_wise(*columns, separator).to_pylist()
    time_names = separator.join(["date", "time"] if "\t" in stamp else ["time"])
    header = separator.join([time_names, "open", "high", "low", "close"])
    path.write_text("\n".join([header, *rows]) + "\n")


def as_text(path: Path, separator: str) -> None:
    import pyarrow as pa
    import pyarrow.csv as pc

    with path.open() as file:
        names = next(csv.reader(file, delimiter=separator))
    pc.read_csv(
        path,
        parse_options=pc.ParseOptions(delimiter=separator),
        convert_options=pc.ConvertOptions(column_types=dict.fromkeys(names, pa.string())),
    )


def timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def memory_of(path: Path) -> float:
    """Bytes that a process of its own takes at most while it imports, beyond what it takes for a
    file of a few rows."""
    few = path.with_suffix(".few")
    with path.open() as file:
        few.write_text("".join(next(file) for _ in range(50)))
    code = (
        "import sys; from pathlib import Path;"
        "from hawser.formats.importing.importing import import_files;"
        "import_files([Path(sys.argv[1])], zone='UTC');"
        "text = Path('/proc/self/status').read_text();"
        "print(text.split('VmHWM:')[1].split()[0])"
    )
    most = [
        int(subprocess.check_output([sys.executable, "-c", code, str(one)])) for one in (few, path)
    ]
    return (most[1] - most[0]) * 1024.0


def main() -> int:
    from hawser.formats.importing.importing import import_files

    kept = True
    with tempfile.TemporaryDirectory() as name:
        for what, (stamp, separator, decimal) in STAMPS.items():
            path = Path(name) / "export.csv"
            written(path, stamp, separator, decimal)
            import_files([path], zone="UTC")  # what is compiled is compiled
            text, bars = (
                partial(as_text, path, separator),
                partial(import_files, [path], zone="UTC"),
            )
            pairs = [(timed(text), timed(bars)) for _ in range(ROUNDS)]
            print(what)
            line("  as text, median", median([one for one, _ in pairs]), "s")
            line("  imported, median", median([one for _, one in pairs]), "s")
            kept &= ratio(
                "  imported / as text",
                median([b for _, b in pairs]),
                median([a for a, _ in pairs]),
                WANTED,
            )
            arrays = 5 * 8.0 * ROWS
            kept &= ratio("  memory / arrays", memory_of(path), arrays, WANTED_MEMORY)
    return 0 if kept else 1


if __name__ == "__main__":
    sys.exit(main())
