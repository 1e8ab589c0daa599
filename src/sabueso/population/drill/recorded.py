"""A drill-down as JSON and back: nested groups, exact decimals as texts."""

from __future__ import annotations

from collections.abc import Mapping
from decimal import Decimal
from typing import Any

import sqlglot.expressions as exp

from sabueso.base.plain import Json, plain, restored
from sabueso.population.drill.drilling import Drill, Node, Others
from sabueso.population.drill.measures import Figure
from sabueso.population.population import Account


def drill_json(result: Drill) -> Json:
    """A drill-down as JSON. ``value`` is that of the first measure, ``values`` those of all."""
    labels = [figure.label for figure in result.figures]

    def node(n: Node) -> Json:
        found = {
            "key": plain(n.key),
            "rows": n.rows,
            "value": plain(n.value),
            "values": plain(dict(zip(labels, n.values, strict=True))),
        }
        if result.across:
            found["across"] = plain(n.across)
        if n.children:
            found["groups"] = [node(child) for child in n.children]
        for name, others in (("others", n.others), ("unmet", n.unmet)):
            if others is not None:
                found[name] = {"count": others.groups, **node(others.node)}
        return found

    account = result.population
    return {
        "table": result.table,
        "on": result.on,
        "measure": result.measure,
        "measures": [
            {
                "label": f.label,
                "additive": f.additive,
                "scale": f.scale,
                "share": f.share,
                "text": f.text,
            }
            for f in result.figures
        ],
        "by": result.by,
        "across": result.across,
        "across_values": result.across_values,
        "having": result.having,
        "currency": result.currency,
        "cautions": [{"code": code, "text": text} for code, text in result.cautions],
        "own_order": list(result.own_order),
        "population": account.as_json() | {"left_out_totals": plain(account.left_out_totals)},
        "total": node(result.total),
    }


def read_drill(content: Mapping[str, Any]) -> Drill:
    """A drill-down as it was recorded.

    Raises
    ------
    KeyError, TypeError, ValueError
        If it is of another form.
    """
    figures = tuple(
        Figure(m["label"], exp.null(), m["additive"], m["scale"], share=m["share"], text=m["text"])
        for m in content["measures"]
    )

    def node(given: Mapping[str, Any]) -> Node:
        return Node(
            key=list(given["key"]),
            rows=given["rows"],
            values=[_read(given["values"][figure.label], figure) for figure in figures],
            across={k: _read(v, figures[0]) for k, v in given.get("across", {}).items()},
            children=[node(child) for child in given.get("groups", ())],
            others=others(given.get("others")),
            unmet=others(given.get("unmet")),
        )

    def others(given: Mapping[str, Any] | None) -> Others | None:
        return None if given is None else Others(given["count"], node(given))

    return Drill(
        table=content["table"],
        on=content["on"],
        measure=content["measure"],
        figures=figures,
        by=list(content["by"]),
        across=content["across"],
        across_values=list(content["across_values"]),
        population=restored(Account, content["population"]),
        total=node(content["total"]),
        currency=content["currency"],
        scale=figures[0].scale,
        having=content["having"],
        cautions=tuple((each["code"], each["text"]) for each in content["cautions"]),
        own_order=tuple(content["own_order"]),
    )


def _read(value: Any, figure: Figure) -> Any:
    """An exact decimal that stood as a text; a figure of dates or texts stays what it is."""
    if isinstance(value, str) and not figure.text:
        return Decimal(value)
    return value
