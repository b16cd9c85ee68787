"""Arrays: levels, where every strip stands, parity, and the engine that reads and writes through them."""
