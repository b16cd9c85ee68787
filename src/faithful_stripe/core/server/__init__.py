"""A server as plain values, and the one judgement of it."""
