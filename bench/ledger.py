"""A made-up ledger as CSV: python bench/ledger.py ROWS FILE.

Seven columns: entry, date, account (2,000), supplier (50,000, heavy-tailed), amount (8 % credits),
preparer (60), text. Written by the engine, not row by row.
"""

from __future__ import annotations

import sys

import duckdb


def write_ledger(rows: int, path: str, seed: float = 0.2) -> None:
    """Write the ledger; the same seed and size give the same file."""
    connection = duckdb.connect()
    connection.execute("SET threads = 1")
    connection.execute(f"SELECT setseed({seed})")
    connection.execute(
        f"""
        COPY (
          SELECT 'E' || lpad(i::VARCHAR, 9, '0') AS entry,
                 DATE '2024-01-01' + (random() * 730)::INTEGER AS date,
                 (60000 + (random() * random() * 2000)::INTEGER)::VARCHAR AS account,
                 'S' || least((1 / (random() + 0.00002))::INTEGER, 50000)::VARCHAR AS supplier,
                 CAST(exp(5.5 + 1.4 * sqrt(-2 * ln(1 - random())) * cos(6.283185307 * random()))
                      * CASE WHEN random() < 0.08 THEN -1 ELSE 1 END AS DECIMAL(14, 2)) AS amount,
                 'u' || (random() * 60)::INTEGER AS preparer,
                 'payment for services of month ' || (random() * 12)::INTEGER AS text
          FROM range({rows}) t(i)
        ) TO '{path}' (HEADER, DELIMITER ',')
        """
    )


if __name__ == "__main__":
    write_ledger(int(sys.argv[1]), sys.argv[2])
