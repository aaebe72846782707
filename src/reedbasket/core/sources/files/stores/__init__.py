"""The stores, each on a library that knows its protocol."""
