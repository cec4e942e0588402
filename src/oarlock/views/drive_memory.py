"""What the drive would start with, beside what is in use, in a few words."""


def memory_text(differing: tuple[str, ...] | None) -> str:
    """Return what is said of gains and filters that a drive's memory holds otherwise.

    Parameters
    ----------
    differing : their names; None: the memory is not known

    """
    if differing is None:
        return "not known"
    if not differing:
        return "holds these"
    return f"{len(differing)} number{'s differ' if len(differing) != 1 else ' differs'}"
