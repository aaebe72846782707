"""What a run will do: the feed resolved, its tables matched with the source's, and what cannot be seen."""
