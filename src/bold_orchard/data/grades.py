"""Words that people grade with, in their order."""

from __future__ import annotations

SCALES = (
    ("none", "trace", "slight", "light", "mild", "medium", "moderate", "heavy", "hard", "severe", "total"),
    ("worst", "bad", "very poor", "poor", "fair", "medium", "average", "good", "very good", "excellent", "best"),
    ("very low", "low", "medium", "moderate", "high", "very high"),
    ("tiny", "small", "medium", "large", "huge"),
    ("never", "rarely", "seldom", "sometimes", "often", "usually", "always"),
    ("strongly disagree", "disagree", "neutral", "agree", "strongly agree"),
    ("unripe", "half ripe", "ripe", "overripe"),
)


def usual_order(levels: list[str]) -> list[str]:
    """Words of one well-known scale in its order, anything else as it stands (natural order)."""
    words = {g.strip().lower().replace("_", " ").replace("-", " "): g for g in levels}
    for scale in SCALES:
        if set(words) <= set(scale):
            return [words[w] for w in scale if w in words]
    return levels


def are_grades(levels: list[str]) -> bool:
    """Whether three or more labels are words of one well-known scale."""
    words = {g.strip().lower().replace("_", " ").replace("-", " ") for g in levels}
    return len(words) > 2 and any(words <= set(scale) for scale in SCALES)
