"""How far a run has got: resuming after an interruption, and rewinding by hand."""
