"""The file stores, each using a library for its protocol."""
