"""What a run would do: its order resolved, the feed's tables matched with the source's, and what cannot be seen."""
