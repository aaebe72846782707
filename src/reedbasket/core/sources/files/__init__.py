"""Files as sources: stores of them, the formats in which they hold records, and copies of them as they are."""
