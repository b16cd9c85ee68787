"""Every row that holds data, read once: what is sound, mended and from whom, open, unprotected."""
