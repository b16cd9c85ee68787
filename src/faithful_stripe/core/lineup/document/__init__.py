"""The answer as values: lineup, verdicts, map of rows, and what seals it to the images that it was made from."""
