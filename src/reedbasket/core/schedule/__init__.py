"""When feeds are due: arithmetic of times, pure. Who runs them, and what was run, is the service's and the store's."""

from .aligned import Grid, covered, grid_of, misalignment
from .ticks import Ticks, ticks_of

__all__ = ["Grid", "Ticks", "covered", "grid_of", "misalignment", "ticks_of"]
