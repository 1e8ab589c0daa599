"""What every test is: a room with settings and a calculation, and what is shown of its result."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Generator, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, ClassVar

from sabueso.base.plain import Values
from sabueso.population.accounting import Counting
from sabueso.population.population import Population
from sabueso.report.blocks import Suit
from sabueso.screens.drawn import Evaluated, Judged
from sabueso.screens.finding import Caution, Finding, Flags, NotTested, recorded_finding
from sabueso.screens.proposal import Proposal
from sabueso.screens.settings import Settings
from sabueso.screens.view import View

if TYPE_CHECKING:
    from pyarrow import RecordBatch

    from sabueso.stats.description import Description

__all__ = ["Caution", "Finding", "Flags", "NotTested", "Proposal", "Screen", "Settings", "View"]


class Screen:
    """A test.

    A name, a sentence, its settings and the calculation are its own; all else has a default. It is
    known by name nowhere but in its own room and its entry point.
    """

    name: ClassVar[str]
    summary: ClassVar[str]
    reference: ClassVar[str]
    settings: ClassVar[type[Settings]]

    group: ClassVar[Any] = dict[str, Any]
    """The type of its groups: a frozen dataclass, or a dictionary."""
    more: ClassVar[Any] = None
    """The type of what it says of all groups together, where it says any."""
    view: ClassVar[type[View[Any]]] = View
    """What is shown of a finding, in every form."""
    examples: ClassVar[tuple[str, ...]] = ()
    """Commands that run on the sample case."""
    figures: ClassVar[tuple[str, ...]] = ()
    """What ``--figure`` chooses among, the usual one first; empty where there is one figure."""
    from_quantiles: ClassVar[tuple[str, ...]] = ()
    """Those of them that are drawn of the quantiles of each group's measure."""
    family: ClassVar[str] = ""
    """Tests of one family look at one thing in several ways: two marks of theirs are one evidence. By
    default a test is a family of its own."""
    drawn: ClassVar[bool] = False
    """Whether its rows are drawn, and not flagged: that is done once, and its marks are no evidence."""
    same_again: ClassVar[bool] = False
    """Whether it finds the same in a second table that has the same amounts of the same parties."""
    place: ClassVar[int] = 100
    """Where it stands among the tests that are proposed."""

    def tables(self, settings: Mapping[str, Any]) -> tuple[str, ...]:
        """Tables beside its own that settings, as given, name."""
        return ()

    def suits(self, population: Population, described: Description | None) -> Iterable[Suit]:
        """Whether it suits a table, whose amounts ``described`` describes; nothing where it has no
        opinion."""
        return ()

    def proposes(self, population: Population, described: Description | None) -> Iterable[Proposal]:
        """Screens that suit a table, with settings taken from its rows; nothing where none does.

        Modules that only this needs are imported here, so that a single run of the test is not kept
        waiting for them.
        """
        return ()

    def tuned(self, population: Population, settings: Mapping[str, Any], capacity: int) -> Values:
        """Settings as proposed, their limit raised so far that no more than ``capacity`` is flagged."""
        return dict(settings)

    def counts(self, population: Population, settings: Any) -> Iterable[Counting]:
        """What :meth:`run` will have counted of the population first, as far as its settings tell: a programme asks
        for the accounts of all its screens together. Settings that do not fit the table raise as there."""
        return ()

    def every_row(
        self, population: Population, finding: Finding[Any]
    ) -> Generator[RecordBatch] | None:
        """The score of every row used, flagged or not, strongest first; None where rows have none."""
        return None

    def evaluated(self, finding: Finding[Any], judged: Sequence[Judged]) -> Evaluated | None:
        """What the reviews of rows drawn say of all that they were drawn of; None where nothing was
        drawn. ``judged`` are in the order of the flags."""
        return None

    @abstractmethod
    def run(self, population: Population, settings: Any) -> Finding[Any]:
        """Screen a population.

        Raises
        ------
        UserError
            If the settings do not fit the table.
        """

    def recorded(self, content: Mapping[str, Any]) -> Finding[Any]:
        """A finding of this test from its JSON."""
        return recorded_finding(content, self.settings, self.group, self.more)
