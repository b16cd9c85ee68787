"""Pure computation: arrays, on-disk formats, member-order reconstruction. No I/O of its own."""
