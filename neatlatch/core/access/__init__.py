"""Access rules (DOMAIN §14): who may do what on which resource, from where.

Deny wins; no rule means no.
"""

from .deciding import Decision, RuleEvaluator, TooMuch
from .effective import (
    AccessDecision,
    Cell,
    EffectiveRights,
    KnownRules,
    Matrix,
    count_idle,
    never_decide,
    stand,
    work_out,
)
from .rules import EVERYBODY, BadRules, Book, Rule, derive

__all__ = [
    "EVERYBODY",
    "RuleEvaluator",
    "AccessDecision",
    "BadRules",
    "Book",
    "Cell",
    "Decision",
    "KnownRules",
    "Matrix",
    "Rule",
    "EffectiveRights",
    "TooMuch",
    "count_idle",
    "derive",
    "never_decide",
    "stand",
    "work_out",
]
