"""Numbers that are no amounts by what they are called."""

from __future__ import annotations

from sabueso.base.words import CalledSo

_RATE = CalledSo(
    r"%|\brate\b|perc|\bpct\b|ratio\b|\btasa\b|porcen|prozent|zinssatz|steuersatz|\btaux\b|pourc|aliquota|tarief|stawka"
)
_HOURS = CalledSo(
    r"stunden$|\bhours?\b|\bhrs\b|\bheures\b|\bhoras\b|\buren\b|\bdays\b|\btage\b|\bjours\b|\bd[ií]as\b|\bgiorni\b|\bkm\b|\bkg\b"
)


def is_rate(name: str) -> bool:
    """Whether a number is called as rates are."""
    return bool(_RATE.search(name))


def is_no_amount(name: str) -> bool:
    """Whether a number is called as rates or hours are.

    Examples
    --------
    >>> [name for name in ("Hours", "Tasa mensual %", "Días de atraso", "Importe") if is_no_amount(name)]
    ['Hours', 'Tasa mensual %', 'Días de atraso']
    """
    return is_rate(name) or bool(_HOURS.search(name))
