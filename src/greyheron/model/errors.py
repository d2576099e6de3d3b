"""The base of all errors that are made to be read by whoever asked."""


class GreyHeronError(Exception):
    """Something that cannot be done: what, where and why.

    remedy:  what to do about it, as a clause that may follow the words; or ""
    """

    remedy = ""

    def __init__(self, message: str, remedy: str = "") -> None:
        super().__init__(message)
        if remedy:
            self.remedy = remedy

    @property
    def advice(self) -> str:
        """What is wrong, and what to do about it."""
        return f"{self}: {self.remedy}" if self.remedy else str(self)
