"""Looking at a source before there is a feed, and at a warehouse after a run: check, survey, preview, verify."""
