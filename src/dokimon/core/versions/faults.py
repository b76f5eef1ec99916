"""The one error that this package raises."""

from dokimon.core.faults import Fault


class VersionFault(Fault, ValueError):
    """A version or a constraint that its language does not allow.

    `text` is the whole of what was read, `position` the offset (0-based, in characters) of the fault in it,
    `says` what is wrong, in words that can follow the text.
    """

    def __init__(self, text: str, position: int, says: str) -> None:
        super().__init__(f"{text!r}: {says}" + (f" (at character {position + 1})" if position else ""))
        self.text = text
        self.position = position
        self.says = says

    @property
    def marked(self) -> tuple[str, str]:
        """The text, and below it a line with a mark under the place where reading stopped."""
        return self.text, " " * self.position + "^"
