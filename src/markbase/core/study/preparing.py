"""The steps that prepare a study, together, and their verification."""

from __future__ import annotations

from markbase.core.errors import ColumnError
from markbase.core.study.steps.coding import CodingSteps
from markbase.core.study.steps.cutting import Cutting
from markbase.core.study.steps.declaring import Declaring
from markbase.core.study.steps.deriving import Deriving
from markbase.core.study.steps.joining import Joining
from markbase.core.study.steps.recoding import Recoding
from markbase.core.study.steps.rows import RowSteps
from markbase.core.study.verification import Check


class Preparing(Declaring, Recoding, Cutting, Deriving, CodingSteps, RowSteps, Joining):
    """The preparing steps of a `Study`."""

    def check(self, column: str | None = None) -> Check:
        """Return the verification of a recoding: old × new, with counts.

        Parameters
        ----------
        column : str, optional
            The name of a column that was made or changed: its last recoding. By default the last
            step of all that was verified, a choice of rows among them.

        Returns
        -------
        Check
            `table`, `passed`, `notes`; print it to read it.

        Raises
        ------
        ColumnError
            If there is no such column, or nothing was recoded.

        Examples
        --------
        >>> import markbase as mb
        >>> study = mb.demo.choirs().merge_levels("voice", {"tenor": ["tennor"]})
        >>> study.check("voice").passed
        True
        """
        if column is not None:
            self.column(column)
        for step in reversed(self._trail.steps):
            made = step.settings["columns"] if step.action in ("aggregate", "as_long", "join") else ()
            if step.check is not None and column in (None, step.column, *made):
                return step.check
        what = f"`{column}` was not recoded: it is as it was read" if column else "Nothing was recoded yet"
        raise ColumnError(f"{what}, so there is nothing to verify.")
