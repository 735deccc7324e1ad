"""The Helm: the market, the plan and the open trades."""

from hawser.desk.common.station import Station

STATION = Station("Helm", "helm", "Alt+1", "hawser.desk.helm.station:opened")
