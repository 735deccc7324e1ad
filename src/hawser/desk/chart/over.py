"""What may lie over the bars of a chart: lines with their legend and strips, and what a source
says."""

from __future__ import annotations

from hawser.desk.chart.curves import Curves, Legend, Strips
from hawser.desk.chart.said import SaidLayer
from hawser.desk.chart.surface import Layer, Surface
from hawser.desk.common.appearance import Appearance
from hawser.desk.models.curves import Curve, Panel


class Over:
    """Its layers lie in front of the bars and behind `front`, a layer that the plot has."""

    def __init__(self, appearance: Appearance, plot: Surface, front: Layer) -> None:
        self.curves, self.said = Curves(appearance), SaidLayer(appearance)
        self.legend, self.strips = Legend(appearance), Strips(appearance, plot)
        plot.add(self.curves, self.said, before=front)

    def show_lines(self, curves: list[Curve], panels: list[Panel], digits: int) -> None:
        """`digits` of a price."""
        self.curves.show_curves(curves)
        self.legend.show_curves(curves, digits)
        self.strips.show_panels(panels)

    def read(self, bar: int, fixed: bool = False) -> None:
        """The values of the lines at a bar; -1: at the newest. `fixed`: it has been chosen."""
        self.legend.show_bar(bar)
        self.strips.show_bar(bar, fixed)
