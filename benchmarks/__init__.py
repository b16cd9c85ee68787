"""Benchmarks: honest measures, run by hand; none is part of the product."""
