"""What is looked for in the series of a table: gaps, repeats, order and form, with what cannot be said."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from sabueso.base.plain import Cells
from sabueso.population.damaged import all_damaged
from sabueso.population.table import Column, money
from sabueso.report import numbers as num
from sabueso.screens.finding import Caution
from sabueso.screens.grouping import UNITS
from sabueso.screens.sequence.each import Periods
from sabueso.screens.sequence.occasions import Occasions
from sabueso.screens.sequence.result import SequenceTotals, Series
from sabueso.screens.sequence.series import HEAD, NUMBER, TAIL, Numbers, Odd
from sabueso.screens.sequence.settings import SequenceSettings
from sabueso.stats.adjust import adjust
from sabueso.stats.gaps import gap_probability

RARE, COMMON, MOST_RARE = 0.001, 0.95, 20
"""Share of a group's numbers that a form has at most to be another, and that the commonest has at least;
and how many of them there may be."""


@dataclass
class Looking:
    """What was found so far in the series of a table."""

    numbers: Numbers
    settings: SequenceSettings
    label: str
    measure: Column | None
    damaged: frozenset[str] = frozenset()
    """What stands on lines that were set aside as damaged, word by word."""
    explained: int = 0
    near: int = 0
    more_repeats: int = 0

    def look(self, *, dated: bool) -> None:
        """Look for all that is asked for; series that are too short are counted alone."""
        asked = self.settings.find
        every = self.numbers.series()
        kept = {
            self.numbers.key(row): row for row in every if row["numbers"] >= self.settings.least
        }
        days = self.settings.days
        self.odd = self.numbers.odd_counts(days)
        gaps = self.numbers.gaps(list(kept.values()))
        # Numbers of a series that hardly follows the days are not out of its order.
        judged = dated and "order" in asked
        # And of a few days in all any two lie close together, in whatever order.
        self.brief = {key for key, row in kept.items() if judged and (row["span"] or 0) <= 2 * days}
        self.unordered = {
            key for key, row in kept.items()
            if judged and key not in self.brief and not self._follows_days(key, row)
        }  # fmt: skip
        self.not_ordered = self.brief | self.unordered
        ordered = [row for key, row in kept.items() if judged and key not in self.not_ordered]
        off = self.numbers.out_of_order(days, ordered)
        self.flags: list[Cells] = []
        self.tested = 0
        if "gaps" in asked:
            self.flags += self._gaps(gaps, kept)
        if "repeats" in asked:
            rare = [row for row in kept.values() if self._is_rare(row)]
            repeats = self.numbers.repeats(rare)
            self.flags += map(self._repeat, repeats)
            self.more_repeats = sum(int(row["repeated"]) for row in rare) - len(repeats)
        self.flags += map(self._order, off)
        other = self._forms(every) if "form" in asked else []
        self.flags += other
        self.looked_at = sum(int(row["numbers"]) for row in kept.values())
        self.series = [self._described(row, judged=judged) for row in kept.values()]
        rest = [row for row in every if self.numbers.key(row) not in kept]
        many = sum(self._odd(key).gaps for key in kept)
        self.more_gaps = many - len(gaps) if "gaps" in asked else 0
        self.more_off = sum(self._odd(self.numbers.key(row)).off for row in ordered) - len(off)
        self.totals = SequenceTotals(
            len(kept),
            len(rest),
            sum(int(row["rows"]) for row in rest),
            len(other),
            self._occasions(),
        )
        self.cautions = self._cautions(dated)

    def _occasions(self) -> list[str] | None:
        periods = self.numbers.periods
        return list(periods.names) if isinstance(periods, Occasions) else None

    def _odd(self, key: tuple[Any, ...]) -> Odd:
        return self.odd.get(key, Odd())

    def _follows_days(self, key: tuple[Any, ...], row: Cells) -> bool:
        """Whether all but a few numbers lie within the days of those beside them, and hardly any is followed by one of
        days before: receipts that are numbered loan by loan go back at each."""
        odd = self._odd(key)
        return bool(max(odd.off, odd.back - odd.off) <= self.settings.incomplete * row["numbers"])

    def _complete(self, row: Cells) -> bool:
        span = int(row["high"]) - int(row["low"]) + 1
        return bool(span - row["numbers"] <= self.settings.incomplete * span)

    def _gaps(self, gaps: list[Cells], kept: Mapping[Any, Cells]) -> list[Cells]:
        """Gaps of a series that is complete but for a few; of another those that chance does not make."""
        loose = {key for key, row in kept.items() if not self._complete(row)}
        self.tested = sum(int(kept[key]["numbers"]) - 1 for key in loose)
        judged = [gap for gap in gaps if self.numbers.key(gap) in loose]
        p = np.ones(len(judged))
        for place, gap in enumerate(judged):
            row = kept[self.numbers.key(gap)]
            span = int(row["high"]) - int(row["low"]) + 1
            p[place] = gap_probability([gap["missing"]], int(row["numbers"]), span)[0]
        # Where no number is missing between two, as many are always: p is 1.
        every = np.concatenate([p, np.ones(max(self.tested - len(p), 0))])
        adjusted = adjust(every, self.settings.adjust)[: len(p)]
        found = [
            self._gap(gap, float(raw), float(own))
            for gap, raw, own in zip(judged, p, adjusted, strict=True)
            if own < self.settings.alpha and not (self._is_near(gap) or self._on_damaged_lines(gap))
        ]
        found += [
            self._gap(gap, None, None)
            for gap in gaps
            if self.numbers.key(gap) not in loose
            and not (self._is_near(gap) or self._on_damaged_lines(gap))
        ]
        # Of complete series first, longest first; then the least likely of the others.
        found.sort(key=lambda f: (f["p"] or 0.0, -f["missing"], f["from"]))
        return found

    def _gap(self, gap: Cells, p: float | None, adjusted: float | None) -> Cells:
        first = self._spelled(gap, int(gap[NUMBER]) + 1)
        last = self._spelled(gap, int(gap["next"]) - 1)
        name = first if first == last else f"{first} – {last}"
        before, after = gap["one"], gap["next_text"]
        if (periods := self.numbers.periods) is not None:
            before, after = periods.told(int(gap[NUMBER])), periods.told(int(gap["next"]))
        return self._flag(gap, name, "missing", before, after) | {
            "score": float(gap["missing"]), "p": p, "p_adjusted": adjusted,
            "from": first, "to": last, "missing": int(gap["missing"]),
        }  # fmt: skip

    def _is_near(self, gap: Cells) -> bool:
        """Whether a period without a row lies between rows that are hardly more than one apart, and is no gap."""
        periods = self.numbers.periods
        if not isinstance(periods, Periods) or gap["last_day"] is None or gap["after"] is None:
            return False
        if not periods.are_near(gap["last_day"], gap["after"]):
            return False
        self.near += int(gap["missing"])
        return True

    def _on_damaged_lines(self, gap: Cells) -> bool:
        """Whether a gap is on damaged lines, and no gap; its numbers are then counted as explained."""
        first, last = int(gap[NUMBER]) + 1, int(gap["next"]) - 1
        if not all_damaged(first, last, lambda number: self._spelled(gap, number), self.damaged):
            return False
        self.explained += last - first + 1
        return True

    def _is_rare(self, series: Cells) -> bool:
        """Whether repeats are the exception in a series, and not how it is kept: an entry has several
        lines of one number."""
        return bool(series["repeated"] <= self.settings.incomplete * series["numbers"])

    def _repeat(self, row: Cells) -> Cells:
        amount = None
        if self.measure is not None and row[UNITS] is not None:  # some row states one
            amount = money(int(row[UNITS]), self.measure.scale)
        name = row["one"] if row["one"] == row["other"] else f"{row['one']}, {row['other']}"
        return self._flag(row, name, f"used {row['n']:,} times", row["one"], row["other"]) | {
            "score": float(row["n"]), "from": row["one"], "to": row["other"], "amount": amount,
            "rows": int(row["n"]),
        }  # fmt: skip

    def _order(self, row: Cells) -> Cells:
        what = f"of {row['first_day']}, between numbers of {row['before']} and {row['after']}"
        return self._flag(row, row["one"], what, row["one"], row["one"]) | {
            "score": float(row["away"]), "from": row["one"], "to": row["one"],
        }  # fmt: skip

    def _forms(self, every: list[Cells]) -> list[Cells]:
        """Numbers written as hardly any other of their group."""
        groups: dict[tuple[Any, ...], list[Cells]] = {}
        for row in self.numbers.forms(every):
            groups.setdefault(tuple(self.numbers.group(row).values()), []).append(row)
        found = []
        for forms in groups.values():
            whole = sum(int(row["n"]) for row in forms)
            # The number of digits grows with a series: that is no other form.
            by_shape: dict[str, list[Cells]] = {}
            for row in forms:
                by_shape.setdefault(_shape(row["form"]), []).append(row)
            sizes = {s: sum(int(r["n"]) for r in rows) for s, rows in by_shape.items()}
            if max(sizes.values()) < COMMON * whole:
                continue
            for shape, rows in by_shape.items():
                if sizes[shape] > min(RARE * whole, MOST_RARE):
                    continue
                for row in rows:
                    usual = max(sizes, key=lambda s: sizes[s])
                    what = f"written as {shape or '(empty)'}, where {sizes[usual]:,} of {whole:,} are as {usual}"
                    found.append(
                        self._flag(row, row["one"], what, row["one"], row["other"])
                        | {"score": float(whole / int(row["n"])), "from": row["one"], "to": row["other"],
                           "rows": int(row["n"])}
                    )  # fmt: skip
        return found

    def _flag(self, row: Cells, name: str, what: str, before: str, after: str) -> Cells:
        group = self.numbers.group(row)
        return {
            "subject": {**group, self.label: name},
            "group": group,
            "score": None,
            "limit": None,
            "direction": what.split(" ")[0],
            "p": None,
            "p_adjusted": None,
            "amount": None,
            "from": None,
            "to": None,
            "missing": None,
            "rows": None,
            "what": what,
            "column": self.label if self.numbers.periods is None else self.numbers.periods.column,
            "before": before,
            "after": after,
        }

    def _spelled(self, gap: Cells, number: int) -> str:
        """A missing number as the one before it is written."""
        if self.numbers.periods is not None:
            return self.numbers.periods.named(number)
        digits = len(str(gap["one"])) - len(gap[HEAD]) - len(gap[TAIL])
        return f"{gap[HEAD]}{number:0{digits}d}{gap[TAIL]}"

    def _described(self, row: Cells, *, judged: bool) -> Series:
        key = self.numbers.key(row)
        gaps, off, _ = self._odd(key)
        span = int(row["high"]) - int(row["low"]) + 1
        name = f"{row[HEAD]}…{row[TAIL]}"
        width = int(row["shortest"]) - len(row[HEAD]) - len(row[TAIL])
        return Series(
            group=self.numbers.group(row),
            series=name,
            first=self._first_or_last(row, row["low"], width),
            last=self._first_or_last(row, row["high"], width),
            count=int(row["rows"]),
            numbers=int(row["numbers"]),
            missing=span - int(row["numbers"]),
            gaps=gaps,
            repeated=int(row["repeated"]),
            out_of_order=off if judged and key not in self.not_ordered else None,
            complete=self._complete(row),
        )

    def _first_or_last(self, row: Cells, number: int, width: int) -> str:
        if self.numbers.periods is not None:
            return self.numbers.periods.named(int(number))
        return f"{row[HEAD]}{number:0{width}d}{row[TAIL]}"

    def _cautions(self, dated: bool) -> list[Caution]:
        noun, found = self.settings.noun, []
        if self.explained:
            text = (
                f"{num.many(self.explained, 'missing number stands', 'missing numbers stand')} on lines of the files "
                "that were set aside as damaged: no gap is named for them"
            )
            found.append(Caution("on_damaged_lines", text, {"numbers": self.explained}))
        if self.near and isinstance(periods := self.numbers.periods, Periods):
            text = (
                f"{num.many(self.near, periods.each)} without a row {num.verb(self.near, 'lies', 'lie')} between rows that "
                f"are hardly more than one {periods.each} apart, as where they come every thirty days: no gap is named for "
                f"{num.verb(self.near, 'it', 'them')}"
            )
            found.append(Caution("between_near_rows", text, {"periods": self.near}))
        if self.more_gaps > 0:
            text = (
                f"of {num.many(len(self.series), 'series', 'series')} there are {self.more_gaps:,} more gaps than the "
                "longest that were looked at: not every one is named"
            )
            found.append(Caution("more_gaps", text, {"gaps": self.more_gaps}))
        if more := self.more_repeats + self.more_off:
            text = (
                f"{num.many(more, 'more number is', 'more numbers are')} of several rows or out of the order of the days "
                "than were looked at one by one: not every one is named"
            )
            found.append(Caution("more_numbers", text, {"numbers": more}))
        if self.unordered:
            text = (
                f"in {num.many(len(self.unordered), 'series', 'series')} of {len(self.series):,} more than "
                f"{num.percent(self.settings.incomplete)} of the numbers lie outside the days of those beside them, or "
                "before the one of a day after: they do not follow the days, and none is named for it"
            )
            found.append(Caution("numbers_not_by_day", text, {"series": len(self.unordered)}))
        if self.brief:
            text = (
                f"{num.many(len(self.brief), 'series', 'series')} of {len(self.series):,} {num.verb(len(self.brief), 'has', 'have')} "
                f"rows of no more than {2 * self.settings.days + 1} days in all: whether their numbers follow the days is not asked"
            )
            found.append(Caution("numbers_of_few_days", text, {"series": len(self.brief)}))
        loose = [s for s in self.series if not s.complete]
        if loose and "gaps" in self.settings.find:
            text = (
                f"{num.many(len(loose), 'series', 'series')} of {len(self.series):,} lack more than "
                f"{num.percent(self.settings.incomplete)} of the {noun}s between their first and last: not every "
                f"{noun} of theirs is of this table, and only gaps that chance would hardly make are named"
            )
            found.append(Caution("incomplete_series", text, {"series": len(loose)}))
        many = [s for s in self.series if s.repeated > self.settings.incomplete * s.numbers]
        if many and "repeats" in self.settings.find:
            text = (
                f"in {num.many(len(many), 'series', 'series')} of {len(self.series):,} more than "
                f"{num.percent(self.settings.incomplete)} of the numbers are of several rows, as the lines of an entry "
                "are: repeats are not named there"
            )
            found.append(Caution("numbers_of_several_rows", text, {"series": len(many)}))
        if not dated and "order" in self.settings.find:
            found.append(Caution("no_date", "the rows have no date: their order is not judged", {}))
        if self.totals.series_not_looked_at:
            text = (
                f"{num.many(self.totals.series_not_looked_at, 'series', 'series')} of fewer than {self.settings.least:,} "
                f"{noun}s, {num.many(self.totals.rows_not_looked_at, 'row')} in all, are not looked at"
            )
            found.append(
                Caution("short_series", text, {"series": self.totals.series_not_looked_at})
            )
        return found


def _shape(form: str) -> str:
    """A form with every run of digits as one."""
    shape: list[str] = []
    for mark in form:
        if mark == "9" and shape and shape[-1] == mark:
            continue
        shape.append(mark)
    return "".join(shape)
