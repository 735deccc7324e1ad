"""`hawser size`: one trade, or a list of them: JSON in, JSON out."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from hawser.commands.parsing import DONE, REFUSED, Parser
from hawser.commands.process import interpret
from hawser.core.errors import BadInput

MOST_JSON = 64_000_000  # bytes of a request, or of a list of them


def make_parser() -> Parser:
    parser = Parser(
        prog="hawser size", description="Size one trade, or a list of them: JSON in, JSON out."
    )
    parser.add_argument("request", help="a JSON file; - for standard input")
    return parser


def run(arguments: list[str]) -> int:
    """`hawser size REQUEST`."""
    options = make_parser().parse_args(arguments)
    name = "standard input" if options.request == "-" else options.request
    data = _json(options.request, name)
    interpret()
    from hawser.formats.size_json import answer_many, answer_one

    if isinstance(data, list):
        print(json.dumps(answer_many(data), indent=1))
        return DONE
    answer = answer_one(data, name)
    print(json.dumps(answer, indent=1))
    return DONE if answer["ok"] else REFUSED


def _json(path: str, name: str) -> object:
    try:
        data = sys.stdin.buffer.read(MOST_JSON + 1) if path == "-" else _bytes(Path(path))
        if len(data) > MOST_JSON:
            raise BadInput("too_large", f"{name}: is larger than {MOST_JSON // 1_000_000} MB")
        return json.loads(data.decode("utf-8"))
    except OSError as error:
        raise BadInput("unreadable", f"{name}: cannot be read ({error.strerror})") from None
    except (json.JSONDecodeError, UnicodeDecodeError) as error:
        raise BadInput("not_json", f"{name}: expected JSON; {error}") from None
    except RecursionError:
        raise BadInput("not_json", f"{name}: is nested too deep") from None
    except ValueError:  # of Python's own limit for whole numbers
        raise BadInput("not_json", f"{name}: holds a number of thousands of digits") from None


def _bytes(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(MOST_JSON + 1)
