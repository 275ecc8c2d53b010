"""How help texts look: headings without frames, one option after the other."""

from __future__ import annotations

import rich_click as click

HELP = click.RichHelpConfiguration(
    style_options_panel_box="SIMPLE",
    style_commands_panel_box="SIMPLE",
    options_table_column_types=["opt_long", "metavar", "help"],
    options_table_help_sections=["help", "default", "required"],
    max_width=110,
    text_markup=None,
    text_paragraph_linebreaks="\n\n",
)
"""For all commands."""


def examples(*lines: str) -> str:
    """Return what stands below a help text: commands that run, each on a line of its own."""
    return "\n\n".join(["Examples:", *(f"$ {line}" for line in lines)])
