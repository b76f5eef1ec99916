"""The order of Java versions: JEP 223 and 322 (`17.0.9+9`, `21-ea`), and the older `1.8.0_392`, which is 8.0.392."""

import re

from dokimon.core.versions.orders import Order, dotted


def spell(text: str) -> str:
    """Return a Java version in the form of JEP 322, without its build number."""
    bare = text.strip()
    old = re.fullmatch(r"1\.(\d+)(?:\.(\d+))?(?:_0*(\d+))?(.*)", bare)
    if old:
        parts = [old[1], old[2] or ("0" if old[3] else None), old[3]]
        bare = ".".join(part for part in parts if part) + old[4]
    # JEP 223: what follows a plus is the build, which makes no difference to what the version offers.
    return re.sub(r"(-b\d+|\+.*)$", "", bare)


JAVA = Order("java", lambda text: dotted.parse(spell(text)), spell)
