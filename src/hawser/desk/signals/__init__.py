"""Sources: rules that say when to enter and when to leave, seen on the bars before any rig is put
on them."""

from hawser.desk.common.station import Station

STATION = Station("Signals", "signals", "Alt+2", "hawser.desk.signals.station:opened", shared=True)
