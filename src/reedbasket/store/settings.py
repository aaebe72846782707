"""Settings that override those that the service was started with."""

from __future__ import annotations

from .database import Store, now_text


def read(store: Store) -> dict[str, str]:
    """{name: value}"""
    return {row["name"]: row["value"] for row in store.connection.execute("select name, value from setting")}


def write(store: Store, name: str, value: str | None, by: str) -> None:
    """Override a setting; None: no longer."""
    with store.transaction() as connection:
        if value is None:
            connection.execute("delete from setting where name = ?", (name,))
            return
        connection.execute(
            """insert into setting (name, value, changed_at, changed_by) values (?, ?, ?, ?)
               on conflict (name) do update
               set value = excluded.value, changed_at = excluded.changed_at, changed_by = excluded.changed_by""",
            (name, value, now_text(), by),
        )
