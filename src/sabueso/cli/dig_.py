"""``sabueso dig``."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from sabueso.base.errors import UserError, nearest
from sabueso.cli import words
from sabueso.cli.common import case_of, case_option, check_out, emit_result, output_options

if TYPE_CHECKING:
    from sabueso.case.queue import AuditException
    from sabueso.population.drill import Drill, Rows

EXAMPLES = (
    "sabueso dig payments --by account,party",
    "sabueso dig journal --where \"account = '62840'\" --by text --across month",
    'sabueso dig payments --where "first_two(amount) = 49" --rows',
)


def add_arguments(parser: argparse.ArgumentParser, rest: object = ()) -> None:
    what = parser.add_argument(
        "what", metavar="TABLE|EXCEPTION", help="a table, or an exception's id"
    )
    words.completed(what, words.tables_and_exceptions)
    parser.add_argument("--where", metavar="SQL", help="condition that rows must meet")
    parser.add_argument("--by", metavar="COLUMN[,…]", help="groups, and groups within them")
    parser.add_argument(
        "--across", metavar="COLUMN", help="a column, year, quarter, month or weekday as columns"
    )
    parser.add_argument("--on", metavar="COLUMN", help="the measure (default: role amount)")
    parser.add_argument("--measure", choices=("sum", "count", "mean", "min", "max"), default="sum")
    parser.add_argument("--rows", action="store_true", help="the rows themselves, largest first")
    parser.add_argument(
        "--limit", type=int, default=15, metavar="N", help="groups a level, or rows (default: 15)"
    )
    case_option(parser)
    output_options(parser, ".csv .xlsx .parquet .json")


def run(args: argparse.Namespace) -> int:
    from sabueso.case.queue import one_exception
    from sabueso.population import drill as drills
    from sabueso.population.expressions import split_list
    from sabueso.show.export import DATA

    if args.limit < 1:
        raise UserError(f"--limit {args.limit}: expected at least 1")
    check_out(args, DATA)
    case = case_of(args)
    exception: AuditException | None = None
    try:
        table, where = args.what, args.where
        if args.what not in case.plan.tables:
            if "-" not in args.what:
                known = nearest(args.what, case.plan.tables)
                raise UserError(f"{args.what!r} is neither a table nor an exception id{known}")
            exception = one_exception(case, args.what)
            table = exception.table
            where = f"({exception.selector})" + (f" and ({args.where})" if args.where else "")
        by = split_list(args.by or "")
        as_rows = args.rows or (exception is not None and not by and not args.across)
        with case.populations(table) as open_population:
            population = open_population(table, where, with_set_aside=True)
            if as_rows:
                found = drills.rows(population, limit=args.limit, on=args.on)
            else:
                result = drills.drill(
                    population, by=by, across=args.across, measure=args.measure, on=args.on
                )
    finally:
        case.close()
    if as_rows:
        _show_rows(args, found, exception)
    else:
        dated = "date" in case.plan.tables[table].roles
        _show_drill(args, result, table, where, dated)
    return 0


def _show_rows(args: argparse.Namespace, found: Rows, exception: AuditException | None) -> None:
    from sabueso.screens.interface import plain
    from sabueso.show.export import rows_sheet

    content = {
        "table": found.table,
        "population": found.population.as_json(),
        "rows": [plain(row) for row in found.rows],
    }
    if emit_result(args, [rows_sheet(found)], content):
        return
    from sabueso.show.console import make_console
    from sabueso.show.drill import show_rows
    from sabueso.show.queue import show_exception

    console = make_console()
    steps = [f"sabueso dig {found.table} --by month"]
    if exception is not None:
        show_exception(console, exception)
        console.print()
        steps = [
            f"sabueso dig {exception.id} --by month",
            f'sabueso review {exception.id} --cleared --reason "…" --as KL',
        ]
    show_rows(console, found, steps=steps)


def _show_drill(
    args: argparse.Namespace, result: Drill, table: str, where: str | None, dated: bool
) -> None:
    from sabueso.show.export import drill_json, drill_sheet

    if emit_result(args, [drill_sheet(result)], drill_json(result)):
        return
    from sabueso.show.console import make_console
    from sabueso.show.drill import show_drill

    show_drill(
        make_console(),
        result,
        where=where,
        limit=args.limit,
        steps=_steps(args, result, table, where, dated),
    )


def _steps(
    args: argparse.Namespace, result: Drill, table: str, where: str | None, dated: bool
) -> list[str]:
    """Open the largest group, or see it over time."""
    from sabueso.population.expressions import equals
    from sabueso.population.sql import PERIODS
    from sabueso.show.console import shell

    extra = f" and ({where})" if where else ""
    if not result.total.children:
        return [f"sabueso dig {args.what} --by account", f"sabueso dig {args.what} --rows"]
    largest = max(result.total.children, key=lambda node: abs(node.value or 0))
    value, name = largest.key[0], result.by[0]
    condition = equals(name, value)
    steps = [f"sabueso dig {table} --where {shell(condition + extra)} --rows"]
    if dated and not args.across and name not in PERIODS:
        condition = f" --where {shell(where)}" if where else ""
        steps.append(f"sabueso dig {table} --by {shell(args.by)} --across year{condition}")
    return steps
