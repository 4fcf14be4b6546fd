"""Access rules (DOMAIN §14): who may do what on which resource, from where.

Deny wins; no rule means no.
"""

from .deciding import Access, Decision, TooMuch
from .effective import (
    Cell,
    Known,
    Matrix,
    Standing,
    Verdict,
    count_idle,
    never_decide,
    stand,
    work_out,
)
from .rules import EVERYBODY, BadRules, Book, Rule, derive

__all__ = [
    "EVERYBODY",
    "Access",
    "BadRules",
    "Book",
    "Cell",
    "Decision",
    "Known",
    "Matrix",
    "Rule",
    "Standing",
    "TooMuch",
    "Verdict",
    "count_idle",
    "derive",
    "never_decide",
    "stand",
    "work_out",
]
