"""Arrays that compiled code uses without counting its references to them.

Numba counts each time an array is handed on, with an operation that the processor does by itself;
where a run hands dozens of arrays to many small rules that was two fifths of its time. What the
caller holds for the whole call needs no counting.
"""

from __future__ import annotations

from hawser.core.built import Built

# An array, or a tuple of them, that outlives the call. Only for what the caller of the compiled
# function holds, and never to be returned from it.
borrowed = Built("borrow", lambda value: value)
