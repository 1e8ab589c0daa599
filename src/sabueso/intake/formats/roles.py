"""Roles guessed from header words and from what the columns hold."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from sabueso.intake.formats.called import looks_like_date, worded, words_of
from sabueso.intake.formats.currencies import stated_currency
from sabueso.intake.formats.deciding import Format
from sabueso.intake.formats.guessing import (
    NEARLY_ALL,
    Guess,
    alike_parties,
    may_be_its_day,
    named_otherwise,
)
from sabueso.intake.formats.header_words import WORDS
from sabueso.intake.formats.role_words import (
    BUYERS,
    GIVERS,
    HELD,
    MONEY_BY_NAME,
    MOVED,
    NAMES,
    NO_AMOUNT,
    NUMBERS,
    OF_AN_END,
    OF_EACH,
    OF_ENDS,
    OF_ONE_UNIT,
    OF_PARTS,
    OF_THE_HOUSE,
    OF_VALUE,
    ORDERS,
    PLAIN_NAMES,
    SELLERS,
    TAKERS,
    TAX_NUMBERS,
    TRADED,
    VALUED,
    WHICH_OF_THE_HOUSE,
)
from sabueso.intake.formats.sides import SIDES, phrased_pair
from sabueso.population.table import Column, Role


def is_no_money(name: str) -> bool:
    """Whether a name says that a number is a count, a share or a rate, whatever else it says."""
    return not NO_AMOUNT.isdisjoint(worded(name))


def may_have(role: Role, name: str) -> bool:
    """Whether a name is one of those by which columns have a role: a posting's day, and not when it is due."""
    parts = worded(name)
    if set(parts).isdisjoint(WORDS[role].split()) or named_otherwise(role, parts):
        return False
    return role != "date" or set(parts).isdisjoint((*OF_VALUE, *WORDS["approver"].split()))


def _several(role: Role, columns: Sequence[Column]) -> bool:
    """Whether more than one number column is called as those in a role are."""
    words = WORDS[role].split()
    named = [
        c
        for c in columns
        if c.type == "number"
        and set(words_of(c.name)) & set(words)
        and not named_otherwise(role, worded(c.name))
    ]
    return len(named) > 1


def guess_roles(
    columns: Sequence[Column],
    distinct: Mapping[str, tuple[int, int]],
    both_filled: Callable[[str, str], bool] = lambda debit, credit: False,
    formats: Mapping[str, Format] | None = None,
) -> dict[Role, str]:
    """Roles of columns, each role and each column at most once.

    Parameters
    ----------
    columns : sequence of Column
        The columns with their types.
    distinct : mapping of str to (int, int)
        Per column, distinct and non-empty texts in the sample.
    both_filled : callable
        Whether most rows have a figure in both of two columns: two measures then, and no sides of the
        ledger, unless the trade's own words name them.
    formats : mapping of str to format, optional
        How columns are read: beside which digits a currency stands.
    """
    guess = Guess(columns, distinct)
    pair = phrased_pair([c.name for c in columns if c.type == "number"])
    if pair is not None and not both_filled(*pair):
        guess.give("debit", pair[0])
        guess.give("credit", pair[1])
    for role in WORDS:
        name = None if role in guess.found else guess.best(role)
        if name is not None:
            guess.give(role, name)
    _settle_sides(guess, both_filled)
    _leave_count(guess, formats or {})
    _settle_money(guess, formats or {})
    _settle_date(guess)
    _settle_price(guess)
    _settle_name(guess)
    _settle_tax_number(guess)
    _settle_buyer(guess)
    _settle_ends(guess)
    if "amount" in guess.found and "date" not in guess.found and "entered" in guess.found:
        # What happens is dated: of amounts the only time there is is theirs.
        entered = next(c for c in columns if c.name == guess.found["entered"])
        if entered.type in ("date", "timestamp") and not named_otherwise(
            "date", worded(entered.name)
        ):
            guess.found["date"] = guess.found.pop("entered")
    _settle_id(guess)
    return guess.found


def _settle_id(guess: Guess) -> None:
    """The first column, where it tells every row apart and is called a number, or nothing else is called as what does;
    the number of an order is its rows' where it stands first, and else names a row of another table."""
    first, named = next(iter(guess.columns), None), guess.found.get("id")
    made_by = guess.found.get("preparer", "")
    each, filled = guess.distinct.get(made_by, (0, 0))
    a_list = guess.found.keys().isdisjoint(("amount", "debit", "credit", "document"))
    if named is None and a_list and 0 < each == filled:
        # A list of those who make entries: each row is of one of them.
        guess.found["id"] = guess.found.pop("preparer")
        return
    n, rows = guess.distinct.get(first.name, (0, 0)) if first is not None else (0, 0)
    if first is not None and first.name == guess.found.get("document") and named is None:
        # Papers without amounts, each of one row: they tell the rows apart.
        if (
            guess.found.keys().isdisjoint(("amount", "debit", "credit"))
            and 0 < n == rows
            and guess.is_on_most_rows(first.name)
        ):
            guess.found["id"] = guess.found.pop("document")
        return
    if first is None or first.name in guess.taken or looks_like_date(first.name):
        return
    if named_otherwise("id", worded(first.name)):
        return
    numbered = not NUMBERS.isdisjoint(worded(first.name))
    if named is not None and ORDERS.isdisjoint(worded(named)) and not numbered:
        its, of = guess.distinct.get(named, (0, 0))
        if its == of:
            return
    if rows and n == rows and first.type == "text" and guess.is_on_most_rows(first.name):
        guess.found["id"] = first.name


def _settle_sides(guess: Guess, both_filled: Callable[[str, str], bool]) -> None:
    """Leave a debit and a credit only where they are the sides of one amount."""
    found = guess.found
    if {"debit", "credit"} <= set(found):
        sides = found["debit"], found["credit"]
        words = set(worded(" ".join(sides)))
        several = all(_several(role, guess.columns) for role in ("debit", "credit"))
        # Of two pairs, such as those of two years, neither is the table's.
        if several or (words.isdisjoint(SIDES) and both_filled(*sides)):
            del found["debit"], found["credit"]
    # A debit without a credit is only a column called "cargo".
    if ("debit" in found) != ("credit" in found):
        alone: Role = "debit" if "debit" in found else "credit"
        name = found.pop(alone)
        if "amount" not in found:
            found["amount"] = name


def _leave_count(guess: Guess, formats: Mapping[str, Format]) -> None:
    """Whole numbers that are a total by their name alone are no amounts where others state a currency: Total Discharges,
    beside payments in $."""
    name = guess.found.get("amount", "")
    column = next((c for c in guess.columns if c.name == name), None)
    if column is None or column.scale or not MONEY_BY_NAME.isdisjoint(worded(name)):
        return
    stating = [
        c.name for c in guess.columns if c.type == "number" and stated_currency(c.name, formats, "")
    ]
    if stating and name not in stating:
        del guess.found["amount"]
        guess.taken.discard(name)


def _settle_money(guess: Guess, formats: Mapping[str, Format]) -> None:
    """Where no column is called as amounts are, the one that states a currency has them: in its name, or beside
    its digits."""
    if not guess.found.keys().isdisjoint(("amount", "debit")):
        return
    free = [c for c in guess.may_be_amounts() if c.name not in guess.taken]
    named = [c.name for c in free if stated_currency(c.name, formats, "")]
    moved = [c.name for c in free if c.scale and not MOVED.isdisjoint(worded(c.name))]
    if len(named) > 1:  # a freight, beside what nothing is known of
        named = [name for name in named if not OF_PARTS.isdisjoint(worded(name))]
    if len(named) == 1 or (not named and len(moved) == 1):
        guess.give("amount", (named or moved)[0])


def _settle_price(guess: Guess) -> None:
    """Where nothing else is an amount, a price for which nothing was counted: what was bid, or paid, in one."""
    found = guess.found
    of_each = [c.name for c in guess.columns if c.type == "number" and OF_EACH.search(c.name)]
    if "price" not in found and len(of_each) == 1 and of_each[0] not in guess.taken:
        guess.give("price", of_each[0])
    if "price" not in found or not found.keys().isdisjoint(("debit", "quantity")):
        return
    parts = words_of(found["price"])
    if "amount" in found:
        # What a house was sold for is paid, and not what it was assessed at.
        valued = not VALUED.isdisjoint(worded(found["amount"]))
        if valued and not TRADED.isdisjoint(worded(found["price"])):
            found["amount"] = found.pop("price")
        return
    if "date" in found and OF_ONE_UNIT.isdisjoint(parts) and (len(parts) > 1 or "party" in found):
        found["amount"] = found.pop("price")


def _settle_name(guess: Guess) -> None:
    """Who the rows of a ledger are of, where nothing but a column of names tells: names that come again."""
    if "party" in guess.found:
        _settle_whose(guess)
        return
    if "date" not in guess.found or guess.found.keys().isdisjoint(("amount", "debit")):
        return
    for column in guess.columns:
        distinct, rows = guess.distinct.get(column.name, (0, 0))
        is_text = column.name == guess.found.get("text")
        free = column.type == "text" and (is_text or column.name not in guess.taken)
        parts = set(worded(column.name))
        if not free or not parts & NAMES or not parts <= NAMES | PLAIN_NAMES or 2 * distinct > rows:
            continue
        guess.give("party", column.name)
        if is_text:
            del guess.found["text"]
            if (other := guess.best("text")) is not None:
                guess.give("text", other)
        return


def _settle_whose(guess: Guess) -> None:
    """The name of a party that its number tells is the text of its rows, where they have no other."""
    party = set(worded(guess.found["party"]))
    if "text" in guess.found or party.isdisjoint(NUMBERS):
        return
    own = alike_parties(party & set(WORDS["party"].split()))
    for column in guess.columns:
        parts = worded(column.name)
        free = column.type == "text" and column.name not in guess.taken
        if free and own & set(parts) and not named_otherwise("party", parts):
            guess.give("text", column.name)
            return


def _settle_tax_number(guess: Guess) -> None:
    """Of a party that is told by its name, the number that its state gave it: two of one name are two."""
    name = guess.found.get("party")
    if name is None or not NUMBERS.isdisjoint(worded(name)):
        return
    called = set(worded(guess.found.get("text", "")))
    if called and called <= NAMES:
        return  # beside a name it is by a number of the house's that the party is told
    own = alike_parties(set(worded(name)) & set(WORDS["party"].split()))
    distinct, rows = guess.distinct.get(name, (0, 0))
    for column in guess.columns:
        parts = set(worded(column.name))
        if column.type != "text" or column.name in guess.taken or parts.isdisjoint(TAX_NUMBERS):
            continue
        its, filled = guess.distinct.get(column.name, (0, 0))
        known = its >= NEARLY_ALL * distinct and filled >= NEARLY_ALL * rows
        if known and parts & set(WORDS["party"].split()) <= own:
            guess.give("party", column.name)
            guess.found.setdefault("text", name)
            return


def _settle_buyer(guess: Guess) -> None:
    """Who made an entry, where a party stands beside whoever bought from it, or spends for the house."""
    if "preparer" in guess.found or "party" not in guess.found:
        return
    if not SELLERS.isdisjoint(worded(guess.found["party"])):
        return  # whoever buys of somebody is not of the house
    buys = _named_so(guess, lambda parts: not parts.isdisjoint(BUYERS))
    if buys is None and OF_THE_HOUSE.isdisjoint(worded(guess.found["party"])):
        buys = _named_so(
            guess, lambda parts: bool(parts & OF_THE_HOUSE) and parts <= WHICH_OF_THE_HOUSE
        )
    if buys is not None:
        guess.give("preparer", buys)


def _named_so(guess: Guess, fits: Callable[[set[str]], bool]) -> str | None:
    """The first column of texts without a role whose words are so, and do not say that it is nobody."""
    for column in guess.columns:
        if column.type == "text" and column.name not in guess.found.values():
            words = worded(column.name)
            if fits(set(words)) and not named_otherwise("preparer", words):
                return column.name
    return None


def _settle_ends(guess: Guess) -> None:
    """Of two columns of accounts, or holders, that are called alike but for where money comes from and where it goes, the
    ends of a transfer: the one is its account, and the other whoever got it."""
    found = guess.found
    texts = [c.name for c in guess.columns if c.type == "text"]
    free = {name for name in texts if name not in guess.taken}
    free |= {found[role] for role in OF_ENDS if role in found}
    ends = {name: set(worded(name)) for name in texts if name in free}
    givers = {name: words for name, words in ends.items() if not words.isdisjoint(GIVERS)}
    for giver, words in givers.items():
        for taker, others in ends.items():
            alike = words - GIVERS == others - TAKERS and not (words - GIVERS).isdisjoint(HELD)
            if "amount" not in found or not alike:
                continue
            # Another party, or account of the ledger, stands where it is.
            if others.isdisjoint(TAKERS) or not {
                found.get(role, giver) for role in ("account", "party")
            } <= {giver, taker}:
                continue
            if found.get("text") in (giver, taker):
                del found["text"]
            found["account"], found["party"] = giver, taker
            return


def _settle_date(guess: Guess) -> None:
    """The only column of dates that most rows fill, where no name told."""
    if "date" in guess.found:
        return
    filled = max((rows for _, rows in guess.distinct.values()), default=0)
    dates = [
        c.name
        for c in guess.columns
        if c.type in ("date", "timestamp")
        and c.name not in guess.taken
        and may_be_its_day(c.name)
        and OF_AN_END.isdisjoint(worded(c.name))
        and 2 * guess.distinct.get(c.name, (0, 0))[1] >= filled  # most rows have no day of leaving
    ]
    if len(dates) > 1:
        # When money is due, or bears interest from, is not when it moved.
        dates = [name for name in dates if OF_VALUE.isdisjoint(worded(name))]
    if len(dates) == 1 and not (
        "entered" in guess.found and OF_VALUE.intersection(worded(dates[0]))
    ):
        guess.found["date"] = dates[0]
