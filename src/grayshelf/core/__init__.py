"""The rules and sums of the job: pure functions on frozen dataclasses and arrays."""
