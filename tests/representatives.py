"""Methods that stand for their families: of each the one of lowest and the one of highest order."""

from collections.abc import Callable

from unhurried_heron.methods.additive import ADDITIVE
from unhurried_heron.methods.catalogue import all_methods
from unhurried_heron.methods.method import Method
from unhurried_heron.methods.partitioned import PARTITIONED


def representatives(suits: Callable[[Method], bool] = lambda method: True) -> list[str]:
    """Return the names of adaptive methods that suit, two of each family; all of them keep the contract."""
    families: dict[str, list[Method]] = {}
    for method in all_methods():
        if method.adaptive and suits(method):
            families.setdefault(method.family, []).append(method)
    chosen = [extreme(each, key=lambda method: method.order) for each in families.values() for extreme in (min, max)]
    return list(dict.fromkeys(method.name for method in chosen))


def marches_functions(method: Method) -> bool:
    """Whether a method marches Python functions, whose parts are not known."""
    return method.family != ADDITIVE


def general() -> tuple[Method, ...]:
    """Return the methods that march whatever problem: partitioned ones want states in two parts."""
    return tuple(method for method in all_methods() if method.family != PARTITIONED)
