"""What the stages of the outer loops share: the handle of their loop, and edits said in place."""

from collections.abc import Callable

from oarlock.errors import InputError
from oarlock.machine import Axis
from oarlock.quantities.display import digits
from oarlock.ui.stages.base import StageView


class OuterLoopStage(StageView):
    """A loop whose crossover is dragged on the strip and in the plots."""

    lane = "loops"
    has_line = True
    loop_name = ""  # "speed loop"

    def tell(self, text: str) -> None:
        """Show why something cannot be, or nothing."""
        raise NotImplementedError

    def crossover(self) -> float | None:
        """Return where the loop on screen crosses over, Hz; None: there is none."""
        raise NotImplementedError

    def dragged_to(self, hertz: float) -> Axis:
        """Return the axis designed for a dragged crossover.

        Raises
        ------
        InputError : it cannot be met

        """
        raise NotImplementedError

    def drag_to(self, hertz: float) -> None:
        """Follow the handle: a new design at every move, where there is one."""
        if self.crossover() is None:
            return
        try:
            axis = self.dragged_to(hertz)
        except InputError as error:
            self.tell(f"{error.cause}. {error.remedy}")
            return
        self.tell("")
        self.session.drag(axis, self.handle)

    def end_drag(self) -> None:
        """Make the drag one edit."""
        hertz = self.crossover()
        if hertz is not None:
            self.session.end_drag(f"Set the {self.loop_name}'s crossover to {digits(hertz, 3)} Hz")

    def nudge(self, ratio: float) -> None:
        """Move the crossover by a ratio, as one edit."""
        hertz = self.crossover()
        if hertz is not None:
            self.drag_to(hertz * ratio)
            self.session.end_drag(f"Move the {self.loop_name}'s crossover")

    def edit(self, label: str, make: Callable[[], Axis]) -> None:
        """Make an edit; what cannot be is said in place."""
        try:
            self.session.edit(label, self.session.followed(make(), self.handle))
        except InputError as error:
            self.tell(f"{error.cause}. {error.remedy}".strip())
            return
        self.tell("")
