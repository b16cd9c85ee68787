"""Image files as block sources, and files written whole or not at all. The only floor that opens files for others."""
