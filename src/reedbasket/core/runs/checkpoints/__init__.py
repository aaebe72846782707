"""How far a run has got: taken up again after it was cut, and moved back by hand."""
