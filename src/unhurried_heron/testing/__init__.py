"""The contract that every method must keep, a user's own included."""

from unhurried_heron.testing.contract import CHECKS, ContractError, check_method

__all__ = ["CHECKS", "ContractError", "check_method"]
