"""Reading a pile: samples where data is, the strips of all members row by row, and two passes over one drive as one."""
