"""``sabueso intake``."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from pathlib import Path

from sabueso.base.errors import UserError
from sabueso.base.hashing import Hashes
from sabueso.cli.common import Bar, case_of, case_option, emit, emit_json, initials_of, with_bar

EXAMPLES = (
    "sabueso intake inbox/payments --as payments",
    "sabueso intake inbox/journal-2024.csv inbox/journal-2025.csv --as journal",
    "sabueso intake inbox/payments/pagos-2025-07.csv --as again --check",
    'sabueso intake --from sqlite:///ledger.db --query "select * from entries" --as entries',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    parser.add_argument("paths", nargs="*", metavar="PATH", help="files, folders or patterns")
    parser.add_argument(
        "--as", dest="table", required=True, metavar="TABLE", help="the table they become"
    )
    query = parser.add_argument_group("from a database, not from files")
    query.add_argument(
        "--from", dest="url", metavar="URL", help="its address, such as sqlite:///ledger.db"
    )
    query.add_argument("--query", metavar="SQL", help="the SELECT whose rows are taken in")
    parser.add_argument("--check", action="store_true", help="read and report, keep nothing")
    parser.add_argument(
        "--replace",
        action="store_true",
        help="a changed file takes the place of the one of its name, which is kept, superseded",
    )
    parser.add_argument(
        "--attach", action="store_true", help="use Parquet files where they lie, without a copy"
    )
    parser.add_argument(
        "--gate",
        action="store_true",
        help="exit code 3 if anything is quarantined or does not reconcile",
    )
    case_option(parser)
    parser.add_argument("--format", choices=("text", "json", "csv"), default="text")


def _running(paths: Sequence[Path]) -> list[int]:
    """Bytes in the files before each one."""
    sizes = [path.stat().st_size for path in paths]
    return [sum(sizes[:i]) for i in range(len(sizes))]


def run(args: argparse.Namespace) -> int:
    with Hashes() as hashes:
        # What reads a file takes half a second to load; meanwhile its hash can be begun.
        first = Path.cwd() / args.paths[0] if args.paths else None
        if first is not None and first.is_file() and not args.attach:
            hashes.begin(first)
        return _run(args, hashes)


def _run(args: argparse.Namespace, hashes: Hashes) -> int:
    from sabueso.case.taking import TakeReport, source_files, take_in

    if bool(args.url) != bool(args.query) or (args.query and args.paths):
        raise UserError("a database takes --from URL and --query SQL together, and no files")
    if args.attach and (args.query or args.check):
        raise UserError("--attach goes with files, and not with --check or --query")
    case = case_of(args)
    extracted = None
    try:
        if args.query:
            from sabueso.case.extract import extract

            extracted = extract(case, args.table, args.url, args.query)
            args.paths = [str(extracted.path)]
        paths = source_files(case, args.paths, args.table)

        def work(bar: Bar) -> TakeReport:
            total = sum(path.stat().st_size for path in paths)
            before = dict(zip((p.name for p in paths), _running(paths), strict=True))

            def step(name: str, rows: int, size: int) -> None:
                bar(f"{name}: {rows:,} rows", before[name] + size, total)

            if args.attach:
                from sabueso.case.attaching import attach_files

                return attach_files(
                    case, args.table, paths, named=args.paths, replace_old=args.replace,
                    initials=initials_of(argparse.Namespace(initials=None), case), progress=step,
                )  # fmt: skip
            return take_in(
                case, args.table, paths, named=args.paths, keep=not args.check,
                replace_old=args.replace,
                origin={"database": extracted.database, "query": extracted.query} if extracted else None,
                initials=initials_of(argparse.Namespace(initials=None), case), progress=step,
                hashes=hashes,
            )  # fmt: skip

        report: TakeReport = with_bar(work)
    finally:
        case.close()
    if args.format == "json":
        emit_json(report.as_json())
    elif args.format == "csv":
        from sabueso.show.export import Sheet, csv_text

        names = ["file", "sha256", "lines", "read", "accepted", "quarantined", "totals", "blank"]
        rows = [
            [f.file, f.sha256, f.lines, f.read, f.accepted, f.quarantined, f.totals, f.blank,
             f.sums.get(report.amount or "")]
            for f in report.files
        ]  # fmt: skip
        emit(csv_text(Sheet("files", [*names, "amount"], rows)))
    else:
        from sabueso.show.console import make_console
        from sabueso.show.intake import show_intake

        show_intake(make_console(), report)
    return 3 if args.gate and not report.clean else 0
