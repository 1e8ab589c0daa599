"""Who and what there is: accounts, suppliers, staff, the calendar. All names are invented."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

APPROVAL_LIMIT = 5_000
VESSELS = ("Garceta", "Cormorán", "Págalo", "Alcatraz")
ROUTES = ("Isla Albarda", "Punta Sequera", "Los Carrizos")
NEW_ROUTE_FROM = date(2025, 3, 1)
TENDER_AWARDED = date(2025, 5, 21)
START, END = date(2024, 1, 1), date(2025, 12, 31)
HOLIDAYS = {(1, 1), (1, 6), (5, 1), (8, 15), (10, 12), (11, 1), (12, 6), (12, 8), (12, 25)}
USERS = ("acm", "blr", "dfs", "egp", "hnt", "jsv", "mbo", "rvc", "tqa")
SPLITTER, INVENTOR, NIGHT_WORKER = "rvc", "mbo", "hnt"
INTERFACE = "lote"
"""What posts by itself, every night."""

# cuenta, nombre, subgrupo, grupo; weight of ordinary supplier payments booked there.
ACCOUNTS: tuple[tuple[str, str, str, str, float], ...] = (
    ("62110", "Amarres Isla Albarda", "621", "62", 5.0),
    ("62120", "Amarres Punta Sequera", "621", "62", 4.0),
    ("62130", "Amarres Los Carrizos", "621", "62", 0.0),
    ("62140", "Arrendamiento de oficinas", "621", "62", 2.0),
    ("62210", "Reparaciones Garceta", "622", "62", 7.0),
    ("62220", "Reparaciones Cormorán", "622", "62", 7.0),
    ("62230", "Reparaciones Págalo", "622", "62", 7.0),
    ("62240", "Reparaciones Alcatraz", "622", "62", 7.0),
    ("62250", "Astillero propio, materiales", "622", "62", 9.0),
    ("62310", "Auditoría y asesoría", "623", "62", 2.0),
    ("62320", "Comisiones de agencia", "623", "62", 0.0),
    ("62330", "Servicios jurídicos", "623", "62", 1.5),
    ("62410", "Transportes", "624", "62", 5.0),
    ("62510", "Seguro de casco", "625", "62", 1.0),
    ("62520", "Otros seguros", "625", "62", 1.0),
    ("62710", "Publicidad", "627", "62", 4.0),
    ("62810", "Combustible Garceta", "628", "62", 0.0),
    ("62820", "Combustible Cormorán", "628", "62", 0.0),
    ("62830", "Combustible Págalo", "628", "62", 0.0),
    ("62840", "Combustible Alcatraz", "628", "62", 0.0),
    ("62850", "Electricidad", "628", "62", 3.0),
    ("62860", "Agua y residuos", "628", "62", 3.0),
    ("62910", "Tasas portuarias", "629", "62", 0.0),
    ("62920", "Limpieza", "629", "62", 5.0),
    ("62930", "Hostelería a bordo", "629", "62", 9.0),
    ("62940", "Comunicaciones", "629", "62", 4.0),
    ("62950", "Gastos varios", "629", "62", 6.0),
    ("62960", "Material de oficina", "629", "62", 5.0),
    ("64010", "Sueldos y salarios", "640", "64", 0.0),
    ("70510", "Pasaje Isla Albarda", "705", "70", 0.0),
    ("70520", "Pasaje Punta Sequera", "705", "70", 0.0),
    ("70530", "Pasaje Los Carrizos", "705", "70", 0.0),
    ("70540", "Carga y vehículos", "705", "70", 0.0),
    ("46500", "Remuneraciones pendientes", "465", "46", 0.0),
    ("55500", "Partidas pendientes", "555", "55", 0.0),
    ("57200", "Bancos", "572", "57", 0.0),
    ("76900", "Otros ingresos financieros", "769", "76", 0.0),
    ("43000", "Clientes", "430", "43", 0.0),
    ("62620", "Comisiones bancarias", "626", "62", 0.0),
)
GROUPS = {
    "62": "Servicios exteriores", "64": "Gastos de personal", "70": "Ventas", "46": "Personal",
    "43": "Clientes", "55": "Otras cuentas", "57": "Tesorería", "76": "Ingresos financieros",
}  # fmt: skip

_FIRST = (
    "Talleres", "Suministros", "Astilleros", "Náutica", "Comercial", "Hermanos", "Servicios",
    "Distribuciones", "Cordelería", "Electrónica", "Pinturas", "Ferretería", "Limpiezas",
    "Transportes", "Consultoría", "Imprenta", "Gráficas", "Panadería", "Conservas", "Frigoríficos",
)  # fmt: skip
_SECOND = (
    "Albarda", "Sequera", "Carrizal", "Tramontana", "Levante", "Bajamar", "Peñalar", "Ondarra",
    "Viento Sur", "Salinera", "Mareal", "Cabo Pardo", "Rompiente", "Nordés", "Lubina", "Arenal",
    "Fondeo", "Barlovento", "Sotavento", "Escollera", "Marejada", "Bocana", "Dársena", "Calafate",
    "Ribamar", "Costa Ocre", "Ensenada", "Pleamar", "Gaviotín", "Roca Alta", "Malpica", "Faro Viejo",
)  # fmt: skip
_FORMS = ("S.L.", "S.A.", "S. Coop.")


@dataclass(frozen=True)
class Supplier:
    """A supplier: its account, its usual level (log of the price) and its share of payments."""

    id: str
    name: str
    account: str
    level: float
    weight: float
    created: date
    bank: str


@dataclass(frozen=True)
class World:
    """What stays the same whatever happens in it."""

    seed: int
    scale: float
    suppliers: list[Supplier]
    special: dict[str, str]
    planted: bool = True
    """Whether anything is planted: without, only what looks bad and is not."""

    def rng(self, part: str) -> np.random.Generator:
        """A stream of random numbers of its own for each part, so that parts do not shift."""
        return np.random.default_rng([self.seed, *part.encode()])

    def supplier(self, role: str) -> Supplier:
        return next(s for s in self.suppliers if s.id == self.special[role])

    def rows(self, plain: int) -> int:
        return max(1, round(plain * self.scale))


def make_world(seed: int, scale: float, *, planted: bool = True) -> World:
    """Suppliers and the parts that some of them play."""
    rng = np.random.default_rng([seed, 1])
    accounts = [a for a in ACCOUNTS if a[4] > 0]
    weights = np.array([a[4] for a in accounts])
    chosen = rng.choice(len(accounts), size=640, p=weights / weights.sum())
    popularity = rng.permutation(1 / (np.arange(640) + 12.0))
    levels = rng.normal(5.4, 0.9, 640)
    names = [f"{a} {b} {c}" for a in _FIRST for b in _SECOND for c in _FORMS]
    picked = rng.choice(len(names), size=640, replace=False)
    suppliers = [
        Supplier(
            id=f"S{1001 + i}",
            name=names[picked[i]],
            account=accounts[chosen[i]][0],
            level=float(levels[i]),
            weight=float(popularity[i]),
            created=START - timedelta(days=int(rng.integers(40, 3_000))),
            bank=f"ES{rng.integers(10, 99)} {' '.join(f'{v:04d}' for v in rng.integers(0, 10_000, 5))}",
        )
        for i in range(640)
    ]
    # Parts are played by suppliers of ordinary size that have nothing else to hide.
    quiet = [s.id for s in sorted(suppliers, key=lambda s: s.weight)[200:420]]
    parts = (
        "split 1", "split 2", "split 3", "invented", "agency", "harbour", "overhaul", "insurer",
        "revived", "tender", "new route",
    )  # fmt: skip
    cast = rng.choice(len(quiet), size=len(parts), replace=False)
    special = {part: quiet[i] for part, i in zip(parts, cast, strict=True)}
    more = _more_suppliers(np.random.default_rng([seed, 2]), planted=planted)
    special |= dict(zip(MORE, (s.id for s in more), strict=True))
    return World(seed, scale, [*suppliers, *more], special, planted)


MORE = ("twin 1", "twin 2", "family 1", "family 2", "lessor", "yard 1", "yard 2", "yard 3")
"""Suppliers who are there for their parts alone."""


def _more_suppliers(rng: np.random.Generator, *, planted: bool) -> list[Supplier]:
    """One supplier entered twice under nearly one name with one account (kind 13); two of one family name
    that have nothing to do with each other; a lessor; three who sell to the yard."""
    names = (
        "Suministros Navales Güimar S.L.", "Suministros Navales Guimar, S.A.", "Hermanos Bentayga S.L.",
        "Hermanos Bentayga Transportes S.L.", "Inmuebles Quebranta S.A.", "Aceros Tabona S.L.",
        "Pinturas Marinas Jable S.A.", "Cabos y Cadenas Orilla S.L.",
    )  # fmt: skip
    accounts = ("62940", "62940", "62410", "62410", "62140", "62250", "62250", "62250")
    banks = [
        f"ES{rng.integers(10, 99)} {' '.join(f'{v:04d}' for v in rng.integers(0, 10_000, 5))}"
        for _ in names
    ]
    if planted:
        banks[1] = banks[0]
    return [
        Supplier(
            f"S{1641 + i}", name, account, 5.4, 0.0,
            START - timedelta(days=int(rng.integers(40, 3_000))), bank,
        )
        for i, (name, account, bank) in enumerate(zip(names, accounts, banks, strict=True))
    ]  # fmt: skip


def payment_days() -> tuple[list[date], np.ndarray]:
    """Days on which payments are made, with the load of each: working days, month ends, summer."""
    days, weights = [], []
    day = START
    while day <= END:
        if day.weekday() < 5 and (day.month, day.day) not in HOLIDAYS:
            load = 1.0 + 0.35 * np.sin((day.month - 4) / 12 * 2 * np.pi)
            if (day + timedelta(days=4)).month != day.month:
                load *= 2.2
            if day.year == 2025:
                load *= 1.05
            days.append(day)
            weights.append(load)
        day += timedelta(days=1)
    share = np.array(weights)
    return days, share / share.sum()
