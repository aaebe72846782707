"""Pagination: what a style has to provide, and a module for each style."""
