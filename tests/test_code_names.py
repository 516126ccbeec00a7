"""Names in the text of triggers: quotes in strings and comments hide none of them."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yeldro.engines.code_names import names_in, unquoted

NAME = st.text(st.sampled_from("abZ_1é $\"`'."), min_size=1, max_size=5).filter(
    lambda name: name != "."
)
BETWEEN = ["'a\"b'", '-- "\n', "/* ` */", "'`'", '"it`s"', "''", "UPDATE x", "(1, 'c.d')", "'\"'"]


@st.composite
def texts(draw: st.DrawFn, quotes: str) -> tuple[str, list[tuple[str, str]]]:
    """A text, and the names that stand in it: each with its schema, or "" for none."""

    def write(name: str) -> str:
        quote = draw(st.sampled_from(quotes))
        return f"{quote}{name.replace(quote, quote * 2)}{quote}"

    parts, planted = [], []
    for _ in range(draw(st.integers(1, 4))):
        parts += draw(st.lists(st.sampled_from(BETWEEN), max_size=3))
        schema, name = draw(st.just("") | NAME), draw(NAME)
        planted.append((schema, name))
        dot = draw(st.sampled_from([".", " . ", ".\n"])) if schema else ""
        parts.append(f"{write(schema) if schema else ''}{dot}{write(name)}")
    return " ; ".join(parts), planted


@pytest.mark.parametrize("quotes", ['"', '`"'])
@given(st.data())
def test_every_name_is_found_whatever_stands_around_it(quotes: str, data: st.DataObject) -> None:
    text, planted = data.draw(texts(quotes))
    found = {(unquoted(schema), unquoted(name)) for schema, name in names_in(text, quotes)}
    assert set(planted) <= found


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("INSERT INTO away.log VALUES (1)", ("away", "log")),
        ('UPDATE "away"."log" SET a = 1', ("away", "log")),
        ("UPDATE `away` . `log` SET a = 1", ("away", "log")),
    ],
)
def test_a_name_with_its_database_means_no_other_database(
    text: str, found: tuple[str, str]
) -> None:
    names = {(unquoted(schema), unquoted(name)) for schema, name in names_in(text, '`"')}
    assert found in names
    assert ("", "log") not in names


def test_plain_words_are_names_with_and_without_a_schema() -> None:
    assert {("", "log"), ("a", "b")} <= set(names_in("insert into log select x from a . b", '"'))
