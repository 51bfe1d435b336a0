"""The record a march is steered by and resumed from, and the reasons why a march returns."""

from __future__ import annotations

from enum import IntEnum
from typing import Final

import numpy as np

CONTROL: Final = np.dtype(
    [
        # set by the driver
        ("table", np.int64),  # address of the march's own table
        ("end", np.float64),
        ("largest_step", np.float64),
        ("adaptive", np.int64),
        ("estimate_order", np.int64),  # of the error estimate
        (
            "most_in_place",
            np.int64,
        ),  # crossings in a row, at one time, after which they are taken to lead back to each other
        ("rests_to_leave", np.int64),  # how many roots may still ask whether they slide
        ("n_parts", np.int64),  # narrow parts of the rates
        ("span", np.float64),  # how long the whole interval is
        ("every_step", np.int64),  # whether every step is kept
        ("attempts_left", np.int64),  # also the stop cell: zeroed to make the march return
        ("evaluation_limit", np.int64),
        ("strides", np.int64),  # whether the family may STRIDE
        ("reference_sign", np.int64),  # of the determinant of M/h - J for short steps, where M is not the identity
        ("stop", np.int64),  # set from outside to make the march return in the middle of long work
        # the march's own state
        ("time", np.float64),
        ("origin", np.float64),  # fixed steps are counted from here, so that rounding does not add up
        ("step", np.float64),  # the length that is wanted next; 0: to be estimated where the march begins
        ("started", np.int64),  # 0 not yet, 1 yes, -1 to be started again beyond a switch
        ("fixed_steps", np.int64),
        ("after_refusal", np.int64),
        ("next_wanted", np.int64),  # how many wanted times lie behind
        # the present attempt
        ("purpose", np.int64),  # what the rates were asked for last: FOR_STAGES, …
        ("stage", np.int64),  # in which stage, of implicit one-step methods
        ("ask", np.int64),  # what the family is called for: START, ATTEMPT, DESCRIBE, REFUSE, ACCEPT, STRIDE or DERIVE
        ("stride", np.int64),  # how many steps it may take at once, and how many it took
        ("length", np.float64),  # with its sign
        ("finish", np.float64),  # time at its end
        ("polynomial_address", np.int64),
        ("described", np.int64),  # whether that is there
        ("degree", np.int64),  # of the polynomial of a step on which something acted
        ("error", np.float64),  # in units of the tolerance; NaN where there is none
        ("order", np.int64),  # of the method; a family that changes it says so at each ATTEMPT
        ("member", np.int64),  # which of several methods takes the step; likewise
        ("row_iterations", np.int64),
        ("theta", np.float64),  # where an event stops the step
        ("first_event", np.int64),  # of those that were found in it
        ("searching", np.int64),  # whether the march returned before the present step was searched to its end
        ("searched", np.float64),  # theta up to which the present step was searched for events
        ("guarded", np.int64),  # whether attempts are held against guards, narrow parts or signs
        ("moved_back", np.int64),  # whether the attempt ended below zero in a state that is never negative
        ("moved", np.int64),  # whether an event has changed a state where the march stands
        ("no_room", np.int64),  # whether a row was refused because its buffer was full
        # between steps
        ("crossing", np.int64),  # LANDS or CROSSES
        ("landing", np.int64),  # how many known times lie behind
        ("in_place", np.int64),  # how many crossings there were in a row without getting on
        ("fallen_back", np.int64),  # how often roots were left that would fall back to rest at once
        ("leads_back", np.int64),  # whether that happened often enough for the driver to examine a sliding motion
        ("early", np.int64),  # how many of them in a row were found where a step had hardly begun
        ("last_crossing", np.float64),
        ("first_bound", np.float64),  # of the first step behind a crossing; 0: none
        ("last_gap", np.float64),  # from one action to the next, and how often in a row it was shorter
        ("shorter", np.int64),
        # what happened
        ("accepted", np.int64),
        ("refused", np.int64),
        ("rate_evaluations", np.int64),  # all, and of them those for
        ("for_jacobians", np.int64),
        ("for_starting", np.int64),
        ("for_estimates", np.int64),
        ("for_between", np.int64),
        ("newton_failures", np.int64),
        ("jacobians", np.int64),
        ("factorisations", np.int64),
        ("solves", np.int64),
        ("iterations", np.int64),
        ("linear_iterations", np.int64),
        ("fill", np.int64),  # numbers of the largest factors
        ("stood_in", np.int64),  # for iterations that failed: 1 sparse factors, 2 incomplete ones with fill-in
        ("changes", np.int64),  # from one method to another
        ("leaps", np.int64),  # fixed steps whose equations had no root that continues the solution, and when at first
        ("leap_time", np.float64),
        # what the output buffers hold
        ("n_steps", np.int64),
        ("n_rows", np.int64),
        ("n_events", np.int64),
        ("n_crossed", np.int64),
        ("stopped_by", np.int64),  # the event or switch that ended the last step, in the order of `Watch`
        # where it went wrong
        ("bad_time", np.float64),
        ("bad_component", np.int64),  # -1: none
        ("guard", np.int64),  # the guard that refused a step last, -1: none
    ],
    align=True,
)


class Reason(IntEnum):
    """Why a march returned to its driver."""

    REACHED_END = 0
    BUFFER_FULL = 1
    PAUSED = 2
    EVENT = 3
    CHANGE = 4  # to another method, which the driver has at hand
    EVENTS_FULL = 5  # the events found so far must be taken before the present step is searched further
    RATES_STOPPED = -1
    NOT_FINITE = -2
    STEP_TOO_SMALL = -3
    NEWTON_FAILED = -4
    EVENT_STOPPED = -5
    SWITCHING = -6  # a switch or an event goes back and forth without end
    ACCUMULATING = -7  # events follow each other faster and faster
    NO_ROOM = -8  # more happened at one time than was laid out for
    POLE = -10  # a step of fixed length would cross a pole
    COLLAPSED = -12  # the steps became so short that they would never come to the end; the driver says so
    NEGATIVE = -11  # the rates lead a state below zero that is never negative
    INCONSISTENT = -13  # the run begins at a state that misses a constraint
    ACTION_FAILED = -9  # an event would give a state or parameter a value that is no number


class Purpose(IntEnum):
    """What the rates are evaluated for."""

    STAGES = 0
    JACOBIAN = 1  # differences, with respect to states or time
    STARTING = 2  # where a run starts, or starts again beyond a switch, and for its first step
    ESTIMATES = 3  # of the error between steps, and of stiffness
    BETWEEN = 4  # the step polynomial
    END = 5  # the rates at the end of a step


# kernels compare with plain integers, which Numba freezes into the machine code
REACHED_END: Final = int(Reason.REACHED_END)
BUFFER_FULL: Final = int(Reason.BUFFER_FULL)
PAUSED: Final = int(Reason.PAUSED)
EVENT: Final = int(Reason.EVENT)
CHANGE: Final = int(Reason.CHANGE)
RATES_STOPPED: Final = int(Reason.RATES_STOPPED)
NOT_FINITE: Final = int(Reason.NOT_FINITE)
STEP_TOO_SMALL: Final = int(Reason.STEP_TOO_SMALL)
NEWTON_FAILED: Final = int(Reason.NEWTON_FAILED)
EVENT_STOPPED: Final = int(Reason.EVENT_STOPPED)
SWITCHING: Final = int(Reason.SWITCHING)
ACCUMULATING: Final = int(Reason.ACCUMULATING)
EVENTS_FULL: Final = int(Reason.EVENTS_FULL)
NO_ROOM: Final = int(Reason.NO_ROOM)
ACTION_FAILED: Final = int(Reason.ACTION_FAILED)
POLE: Final = int(Reason.POLE)
NEGATIVE: Final = int(Reason.NEGATIVE)
INCONSISTENT: Final = int(Reason.INCONSISTENT)

# what a march calls its family for
START, ATTEMPT, DESCRIBE, REFUSE, ACCEPT, STRIDE, DERIVE = range(7)
FOR_STAGES: Final = int(Purpose.STAGES)
FOR_JACOBIAN: Final = int(Purpose.JACOBIAN)
FOR_STARTING: Final = int(Purpose.STARTING)
FOR_ESTIMATES: Final = int(Purpose.ESTIMATES)
FOR_BETWEEN: Final = int(Purpose.BETWEEN)
FOR_END: Final = int(Purpose.END)
# what a family answers to ATTEMPT, if not with a reason to return
REFUSED: Final = 10
# The answer of a family to ATTEMPT where the step may be taken.
ACCEPTED: Final = 11

# what a march calls the crossing for: it has come to a known time, or to an event
LANDS, CROSSES = range(2)
# what it answers at the end of the run, if not with a reason to return or REACHED_END to go on
AT_END: Final = 12

# what an event does to a step that it lies in: nothing; it ends the run there; it ends the step, and is acted on (bits)
PASSES, ENDS, ACTS = range(3)
# the direction in which a switch is watched: it falls below zero, wherever it was before
LEAVES: Final = 2
# kinds of switches: without a value, a truth, whole numbers, and a truth that keeps its value between two levels
PASSED, TRUTH, FLOOR, CEIL, ROOT = range(5)

# rows of ``Watch.values``: event functions at both ends of the step and where they are asked last, one step before and
# where the march stands; derivatives along the solution and speeds at both ends; both ends of a part of the step
START_ROW, END_ROW, SCRATCH_ROW, BEFORE_ROW = range(4)
START_DERIVATIVE_ROW, END_DERIVATIVE_ROW, START_SPEED_ROW, END_SPEED_ROW, LEFT_ROW, RIGHT_ROW = range(4, 10)
# Rows of `Watch.values`.
VALUE_ROWS: Final = 10

# Changes of one event function that one part of a step may hold.
MAX_IN_STEP: Final = 4
# Further rows for each event: those of known times, and those that a jump causes.
SPARE: Final = 6
# Lengths of the last steps that are remembered, a power of two.
RECENT: Final = 64
# one row of the ledger, in the order of its columns
LEDGER: Final = np.dtype(
    [
        ("time", np.float64),
        ("step", np.float64),
        ("error", np.float64),
        ("accepted", np.bool_),
        ("order", np.int64),
        ("member", np.int64),
        ("iterations", np.int64),
    ],
    align=True,
)
# A step is too short that is no more than sixteen spacings of the time.
SMALLEST_RELATIVE_STEP: Final = 16 * float(np.finfo(float).eps)
