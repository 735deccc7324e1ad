"""The Logbook: what happened, line by line."""

from hawser.desk.common.station import Station

STATION = Station("Logbook", "logbook", "Alt+6", "hawser.desk.logbook.station:opened")
