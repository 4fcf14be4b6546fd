"""Files of settings, against the javaproperties package, which was itself held to
java.util.Properties (see ../vectors).
"""

from __future__ import annotations

import javaproperties
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core.intake import properties

LINES = st.lists(st.text('ab=: \t\\#!"uéd0041\f', max_size=10), max_size=5).map("\n".join)


@given(LINES)
def test_as_the_reference_reads_them(text: str) -> None:
    try:
        expected = javaproperties.loads(text)
    except javaproperties.InvalidUEscapeError:
        with pytest.raises(properties.BadProperties):
            properties.parse(text)
        return
    # Of lines with nothing but a backslash the package and java.util.Properties think differently;
    # those stand below.
    assert {key: value for key, value in properties.parse(text).items() if key} == {
        key: value for key, value in expected.items() if key
    }


@pytest.mark.parametrize(
    ("text", "read"),
    [
        ("\\", {"": ""}),
        ("\\\n", {"": ""}),
        ("\\\n\\", {"": ""}),
        ("\\\n\n", {}),
        ("a=1\\", {"a": "1"}),
        ("  \\\n  ", {}),
        ("\\\n=x", {"": "x"}),
    ],
)
def test_lines_with_nothing_but_a_backslash(text: str, read: dict[str, str]) -> None:
    """As java.util.Properties (Java 17) read each of these texts when it was run on them."""
    assert properties.parse(text) == read


@given(
    st.dictionaries(
        st.text(st.characters(blacklist_categories=("Cs",)), min_size=1, max_size=8),
        st.text(st.characters(blacklist_categories=("Cs",)), max_size=8),
        max_size=4,
    )
)
def test_what_the_reference_wrote(values: dict[str, str]) -> None:
    assert properties.parse(javaproperties.dumps(values, timestamp=False)) == values


def test_order_is_kept() -> None:
    assert list(properties.pairs("b=1\na=2\nb=3")) == [("b", "1"), ("a", "2"), ("b", "3")]
