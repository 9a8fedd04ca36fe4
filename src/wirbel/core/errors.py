"""What can go wrong in the heart, as one tree.

WirbelError
├── MalformedTelemetry   a body that is not what its type says; nothing of it can be kept
│   └── TooMuchTelemetry     one that holds more than may be taken at once
├── InvalidChange        a change that breaks the contract; names the field
├── NotFound             nothing of that name or id is stored
├── NotEnoughData        a question that the data cannot answer; says what is missing
├── InvalidQuestion      a question that makes no sense, such as a window that ends before it starts
├── QuestionTooLarge     an answer would take longer than anybody waits; says what to narrow
└── QuestionStopped      whoever asked went away, or stopped it
"""


class WirbelError(Exception):
    """Base of all errors that tell the user what to do next."""


class MalformedTelemetry(WirbelError):
    """The body cannot be decoded as what it claims to be."""


class TooMuchTelemetry(MalformedTelemetry):
    """The body holds more records, attributes or values than may be decoded at once."""


class InvalidChange(WirbelError):
    """A change breaks the contract; ``field`` names where."""

    def __init__(self, field: str, reason: str) -> None:
        super().__init__(f"{field}: {reason}")
        self.field = field


class NotFound(WirbelError):
    """Nothing of that name or id is stored."""


class NotEnoughData(WirbelError):
    """The stored data cannot answer the question."""


class InvalidQuestion(WirbelError):
    """The question itself is wrong."""


class QuestionTooLarge(WirbelError):
    """The answer would take too long or too much memory."""


class QuestionStopped(WirbelError):
    """The question was stopped before it was answered."""
