"""The colours of the two themes, by what they mean; every drawing names roles, never colours.

Chosen so that text stands out by at least 4.5 : 1, and so that the hues that carry meaning differ
in lightness too and are told apart by colour-blind eyes; a mark or a word always goes with them.
"""

from __future__ import annotations

from textual.theme import Theme

DARK, LIGHT = "axiarch-dark", "axiarch-light"

#: Role → colour, by theme.
PALETTES: dict[str, dict[str, str]] = {
    DARK: {
        "ground": "#191814",
        "ink": "#ece6d8",
        "faint": "#9c9482",
        "rule": "#454136",
        "grid": "#3b382f",
        "lead": "#f2b632",
        "second": "#58c9bf",
        "train": "#86b4ff",
        "warn": "#ff8d63",
        "glow": "#b4dc6e",
        "ghost": "#665f50",
        "select": "#332f25",
        "bar": "#c9a35a",
    },
    LIGHT: {
        "ground": "#faf7ef",
        "ink": "#25221b",
        "faint": "#6a6352",
        "rule": "#cfc7b4",
        "grid": "#ddd5c3",
        "lead": "#955600",
        "second": "#006d66",
        "train": "#1f5db8",
        "warn": "#b0340b",
        "glow": "#3f6d0c",
        "ghost": "#b9b09b",
        "select": "#ece3cd",
        "bar": "#a87a24",
    },
}


def theme(name: str) -> Theme:
    """Return the application theme made of a palette."""
    c = PALETTES[name]
    return Theme(
        name=name,
        dark=name == DARK,
        primary=c["lead"],
        secondary=c["second"],
        accent=c["lead"],
        warning=c["warn"],
        error=c["warn"],
        success=c["glow"],
        foreground=c["ink"],
        background=c["ground"],
        surface=c["ground"],
        panel=c["select"],
        variables={
            "faint": c["faint"], "rule": c["rule"], "select": c["select"],
            "input-selection-background": c["rule"], "scrollbar": c["rule"],
            "scrollbar-hover": c["faint"], "scrollbar-active": c["lead"],
            "scrollbar-background": c["ground"], "scrollbar-background-hover": c["ground"],
            "scrollbar-background-active": c["ground"], "scrollbar-corner-color": c["ground"]
        },
    )
