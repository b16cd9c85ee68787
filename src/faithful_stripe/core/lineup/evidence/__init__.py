"""What a pile says before any order is supposed: groups by parity, stripe boundaries, seams between blocks, ages."""
