"""Keys of two tables, or of one among its own, against plain sets of random keys written in many ways."""

from __future__ import annotations

from collections import defaultdict
from datetime import date, timedelta
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from conftest import populated, screened

WRITTEN = [str, str.lower, lambda k: f"{k[:2]} {k[2:]}", lambda k: f"{k[:2]}-{k[2:]}.", lambda k: f"00{k}" if k.isdigit() else k]  # fmt: skip
NOTHING = ["-", "n/a", "N/A", "0000", "…", "Unknown", " "]
KEYS = [f"ES{n}" for n in range(6)] + [str(n) for n in range(71, 75)]
spelled = st.one_of(
    st.builds(lambda key, how: how(key), st.sampled_from(KEYS), st.sampled_from(WRITTEN)),
    st.sampled_from(NOTHING),
    st.none(),
)


@st.composite
def ledgers(draw, least=1):
    """Rows with a key, in a month, of an amount."""
    keys = draw(st.lists(st.tuples(spelled, st.integers(1, 3), st.integers(-500, 900)), min_size=least, max_size=24))  # fmt: skip
    return [
        {"id": f"R{i:02d}", "key": key, "day": f"2025-0{month}-05", "amount": Decimal(cents).scaleb(-2)}
        for i, (key, month, cents) in enumerate(keys)
    ]  # fmt: skip


def plain(key):
    joined = "".join(c for c in key.lower() if c.isalnum())
    return joined.lstrip("0") if joined.isdigit() and joined.strip("0") else joined


def states_nothing(key):
    return key.strip().lower() in ("n/a", "unknown") or not any(c.isalnum() and c != "0" for c in key)  # fmt: skip


def _counted(rows, method, find):
    """Rows that have a key, by it; and what they are compared by."""
    found = defaultdict(list)
    for row in rows:
        key = row["key"]
        if key is not None and not (find == "present" and states_nothing(key)):
            found[key].append(row)
    form = plain if method == "normalised" else str
    return found, {key: form(key) for key in found}


def _told(side, keys, rows):
    some = [row for key in keys for row in rows[key]]
    return (side["keys"], side["rows"], Decimal(side["amount"])) == (
        len(keys),
        len(some),
        sum((r["amount"] for r in some), Decimal(0)),
    )


def _check_side(side, rows, matched):
    absent = [key for key in rows if key not in matched]
    assert _told(side, list(rows), rows)
    for word, keys in (("matched", matched), ("absent", absent)):
        part = {"keys": side[word], "rows": side[f"{word}_rows"], "amount": side[f"{word}_amount"]}
        assert _told(part, keys, rows), word


@given(ledgers(), ledgers(), st.sampled_from(["exact", "normalised"]), st.sampled_from(["absent", "present"]))  # fmt: skip
def test_two_tables(tmp_path_factory, rows, other, method, find):
    tables = {"ledger": rows, "other": other}
    with populated(tmp_path_factory.mktemp("match"), tables, id="id", amount="amount") as people:
        content = screened(people, "match", on="key", other="other", keys=method, find=find)
    mine, form = _counted(rows, method, find)
    theirs, their_form = _counted(other, method, find)
    common = set(form.values()) & set(their_form.values())
    (group,) = content["groups"]
    matched = [key for key in mine if form[key] in common]
    if method == "normalised":
        # Marks alone are like nothing.
        matched = [key for key in matched if form[key]]
    _check_side(group["left"], mine, matched)
    _check_side(group["right"], theirs, [k for k in theirs if their_form[k] in {form[m] for m in matched}])  # fmt: skip
    flagged = matched if find == "present" else [k for k in mine if k not in matched]
    assert {f["subject"]["key"] for f in content["flags"]} == set(flagged)
    for flag in content["flags"]:
        own = mine[flag["subject"]["key"]]
        assert (flag["rows"], Decimal(flag["amount"])) == (len(own), sum(r["amount"] for r in own))
        partners = {k for k in theirs if find == "present" and their_form[k] == form[flag["subject"]["key"]]}  # fmt: skip
        assert {p["key"] for p in flag["partners"]} <= partners
        assert len(flag["partners"]) == min(len(partners), 5)


@given(ledgers(least=6), st.sampled_from(["exact", "normalised"]))
def test_one_table_among_its_own(populate, rows, method):
    """Every key that several rows have, once: with all rows of all ways in which it is written."""
    people = populate(rows, id="id", amount="amount")
    content = screened(people, "match", on="key", other="ledger", keys=method, find="present")
    mine, form = _counted(rows, method, "present")
    together = defaultdict(list)
    for key, own in mine.items():
        together[form[key]] += own
    several = {name: own for name, own in together.items() if len(own) > 1}
    found = {}
    for flag in content["flags"]:
        name = form[flag["subject"]["key"]]
        assert name not in found
        found[name] = flag
    assert set(found) == set(several)
    assert content["flag_count"] == len(several)
    for name, own in several.items():
        flag = found[name]
        assert flag["rows"] == len(own)
        assert Decimal(flag["amount"]) == sum(r["amount"] for r in own)
        assert set(flag["ids"]) <= {r["id"] for r in own}
        spelled = {r["key"] for r in own}
        # Its rows are found again by its condition: of one spelling, by the key itself.
        if len(spelled) > 1:
            assert spelled == {key for key in mine if f"'{key}'" in flag["selects"]}
        else:
            assert flag.get("selects") is None


spans = st.lists(
    st.tuples(
        st.sampled_from("abc"),
        st.one_of(st.none(), st.integers(0, 40)),
        st.one_of(st.none(), st.integers(0, 40)),
    ),
    min_size=1,
    max_size=12,
)
days = st.lists(
    st.tuples(st.sampled_from("abcd"), st.one_of(st.none(), st.integers(0, 40))),
    min_size=1,
    max_size=20,
)


@given(days, spans, st.sampled_from(["present", "absent"]))
def test_days_within_spans(tmp_path_factory, days, spans, find):
    """A span without a first or a last day is open there; a row without a day lies nowhere."""

    def day(n):
        return None if n is None else date(2025, 1, 1) + timedelta(days=n)

    rows = [
        {"id": f"R{i:02}", "who": who, "day": day(n), "amount": Decimal(i)}
        for i, (who, n) in enumerate(days)
    ]
    away = [{"who": who, "from": day(first), "to": day(last)} for who, first, last in spans]
    if all(row["day"] is None for row in rows) or not any(s["from"] for s in away) or not any(s["to"] for s in away):  # fmt: skip
        return
    expected = defaultdict(set)
    for row in rows:
        if row["day"] is None:
            continue
        within = any(
            span["who"] == row["who"]
            and (span["from"] or row["day"]) <= row["day"] <= (span["to"] or row["day"])
            for span in away
        )
        if within == (find == "present"):
            expected[row["who"]].add(row["day"].isoformat())
    folder = tmp_path_factory.mktemp("spans")
    tables = {"ledger": rows, "away": away}
    with populated(folder, tables, id="id", date="day", amount="amount") as population:
        found = screened(population, "match", other="away", on=["who"], during=["from", "to"], find=find)  # fmt: skip
    assert {f["subject"]["who"]: set(f["periods"]) for f in found["flags"]} == expected
    assert found["population"]["left_out"].get("missing_date", 0) == sum(r["day"] is None for r in rows)  # fmt: skip
