"""`hawser import`: a history of another program as a bar file of Hawser's."""

from __future__ import annotations

import json
from pathlib import Path

from hawser.commands.parsing import DONE, Parser
from hawser.commands.process import aside, cancellable, uncollected


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser import",
        description="Read bars or ticks as other programs write them, and write them as Hawser's "
        "own bar file. How the file is written is found out; a recipe says it for sure.",
    )
    parser.add_argument(
        "files",
        type=Path,
        nargs="+",
        metavar="FILE",
        help="CSV in any dialect, also as .gz, .xz or .zip, or Parquet; several make one history",
    )
    parser.add_argument(
        "--out", type=Path, required=True, metavar="FILE", help="where to write: .csv or .parquet"
    )
    parser.add_argument("--recipe", type=Path, metavar="FILE", help="how to read them (TOML)")
    parser.add_argument(
        "--recipe-out", type=Path, metavar="FILE", help="write down how they were read (TOML)"
    )
    parser.add_argument("--tz", metavar="ZONE", help="the zone of times written without an offset")
    parser.add_argument(
        "--instrument", type=Path, metavar="FILE", help="tell prices that are off its tick (TOML)"
    )
    parser.add_argument("--json", action="store_true", help="print what was found as JSON")
    return parser


def run(arguments: list[str]) -> int:
    """`hawser import`."""
    options = make_parser().parse_args(arguments)
    cancellable()
    with uncollected():
        aside(lambda: _import(options))
    return DONE


def _import(options) -> None:  # type: ignore[no-untyped-def]  # argparse's namespace
    from hawser.core.instrument import Instrument
    from hawser.formats.declared import load, save
    from hawser.formats.importing.importing import import_files
    from hawser.formats.importing.recipe import Recipe
    from hawser.formats.importing.writing import write_history

    recipe = load(Recipe, options.recipe) if options.recipe else None
    instrument = load(Instrument, options.instrument) if options.instrument else None
    done = import_files(options.files, recipe, options.tz or "", instrument)
    write_history(done.history, options.out)
    if options.recipe_out:
        save(done.recipe, options.recipe_out)
    if options.json:
        print(json.dumps(done.as_json(), indent=2))
        return
    for sentence in done.sentences():
        print(sentence)
    print(f"Written to {options.out}")
