"""Access rules (DOMAIN §14): who may do what on which resource, from where. Deny wins; no rule means no."""

from .deciding import Access, Decision, TooMuch
from .effective import Cell, Matrix, Verdict, never_decide, work_out
from .rules import EVERYBODY, BadRules, Book, Rule, derive

__all__ = [
    "EVERYBODY",
    "Access",
    "BadRules",
    "Book",
    "Cell",
    "Decision",
    "Matrix",
    "Rule",
    "TooMuch",
    "Verdict",
    "derive",
    "never_decide",
    "work_out",
]
