"""The one error that this package raises."""


class VersionFault(ValueError):
    """A version or a constraint that its language does not allow.

    `text` is the whole of what was read, `position` the offset (0-based, in characters) of the fault in it,
    `reason` says what is wrong in words that can stand after the text.
    """

    def __init__(self, text: str, position: int, reason: str) -> None:
        super().__init__(f"{text!r}: {reason}" + (f" (at character {position + 1})" if position else ""))
        self.text = text
        self.position = position
        self.reason = reason
