"""The bench: a simulated server whose drives are real image files and whose controller really computes."""
