"""Open on-disk formats as declared structures: bytes to values and back."""
