"""Candidates, votes, assignment, placement, equivalence: what orders are possible, and how the evidence ranks them."""
