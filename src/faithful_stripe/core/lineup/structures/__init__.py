"""Structures that state their own address, a file for each family of formats, and the walk that proves by them."""
