"""Structures that state their own address, one file for each family of formats."""
