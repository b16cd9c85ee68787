"""From a pile to its lineups: the solver, and the arrays that take a way of their own (mirrors, spans, slices)."""
