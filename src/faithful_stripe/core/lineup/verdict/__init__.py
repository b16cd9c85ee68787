"""The best hypotheses read as volumes, weighed against each other, and how sure that makes each of the verdicts."""
