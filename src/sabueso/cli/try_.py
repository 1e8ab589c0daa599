"""``sabueso try``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence

from sabueso.base.errors import UserError
from sabueso.case.folder import Case
from sabueso.cli import words
from sabueso.cli.common import (
    case_of,
    case_option,
    check_out,
    emit,
    emit_json,
    listed_examples,
    output_options,
    write_out,
)
from sabueso.screens import figures_of, find_screen, screen_names

EXAMPLES: tuple[str, ...] = (
    "sabueso try digits payments --digits first-two --by-whom preparer",
    "sabueso try zscore payments --by account --scale log --method modified",
    "sabueso try periods journal --per account --base 2024 --current 2025 --amount-limit 5000",
)


def add_arguments(parser: argparse.ArgumentParser, rest: Sequence[str] = ()) -> None:
    test = parser.add_argument("test", metavar="TEST", help=", ".join(screen_names()))
    words.completed(test, words.tests)
    table = parser.add_argument("table", metavar="TABLE", help="a table of the case")
    words.completed(table, words.tables)
    chosen = next((word for word in rest if not word.startswith("-")), None)
    if chosen is not None:
        from sabueso.cli.options import add_options, options_of

        found = options_of(chosen, rest)
        parser.description = f"{chosen}: {found['summary']}."
        if found["examples"]:
            parser.epilog = listed_examples(found["examples"])
        add_options(parser, found["options"])
        if found["figures"]:
            parser.add_argument(
                "--figure",
                choices=found["figures"],
                default=found["figures"][0],
                help="what --out draws (default: %(default)s)",
            )
        else:
            parser.add_argument("--figure", help=argparse.SUPPRESS)  # said below, where it is given
    parser.add_argument(
        "--keep", metavar="NAME", help="add this screen to the programme in case.toml"
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json .html .png .svg")


def run(args: argparse.Namespace) -> int:
    from sabueso.case.programme import run_test
    from sabueso.cli.options import given_options
    from sabueso.show.export import DATA, FIGURES

    check_out(args, (*DATA, *FIGURES, ".html"))
    screen = find_screen(args.test)
    figures = figures_of(screen)
    figure = args.figure or "plain"
    if args.figure is not None and not figures:
        several = [name for name in screen_names() if figures_of(find_screen(name))]
        raise UserError(
            f"--figure {figure}: {args.test} is drawn in one way alone; several have {', '.join(several)}"
        )
    points = bool(figures) and figure != figures[0]
    if points and args.out is None:
        raise UserError(f"--figure {figure} is drawn into a file: --out FILE.png or .svg")
    settings = given_options(args, screen.settings)
    case = case_of(args)
    try:
        finding = run_test(
            case, args.test, args.table, settings, f"sabueso try {args.test}", points=points
        )
        if args.keep:
            _keep(case, args, settings)
    finally:
        case.close()
    if args.out is not None:
        from sabueso.show.files import finding_as

        write_out(args, finding_as(args.out, finding, case, figure))
    if args.format == "json":
        emit_json(finding.as_stream())
    elif args.format == "csv":
        from sabueso.show.export import csv_text, finding_sheet

        emit(csv_text(finding_sheet(finding)))
    else:
        from sabueso.show.console import make_console
        from sabueso.show.findings import show_finding

        show_finding(make_console(), finding, where=settings.get("where"), kept=args.keep or "")
    return 0


def _keep(case: Case, args: argparse.Namespace, settings: dict[str, str]) -> None:
    from sabueso.case.plan import write_screen

    if not args.keep.strip():
        raise UserError("--keep needs a name for the screen")
    screen = find_screen(args.test)
    values = screen.settings.from_plan(settings, f"sabueso try {args.test}").as_plan()
    with case.locked():
        write_screen(case.plan_path, args.keep, args.test, args.table, values)
