"""Time and memory to refuse texts that are made to be hard."""

from __future__ import annotations

import multiprocessing
import resource
import time

from unhurried_heron.errors import HeronError
from unhurried_heron.problem.problem import Problem

ASKED_SECONDS, ASKED_MEGABYTES = 2.0, 500.0


def hard_texts() -> dict[str, str]:
    """Make texts that end in a mistake after much to do."""
    doubling = "\n".join(["d0 = x"] + [f"d{i} = d{i - 1}*d{i - 1} + sin(d{i - 1})" for i in range(1, 600)])
    power = "((((x + y + z + w + v + 1)^4 + y)^4 + z)^4 + w)^4"
    coupled = "v = x + y\n" + "\n".join(
        " + ".join(f"({power} + {i}*{j})*{name}''" for j, name in enumerate("xyzw")) + f" = {power}*v" for i in range(4)
    )
    nested = "x"
    for k in range(90):
        nested = f"where({nested} < {k}, sin(x), x)"
    tripled = "sum(sum(sum(u[j]*u[k]*u[m] for j in 1..99) for k in 1..99) for m in 1..99)"
    return {
        "300,000 characters": "x' = 1\n" * 40_000 + "x' = ",
        "140,000 characters, the last wrong": "\n".join(f"a{i} = x*{i} + sin(x)" for i in range(6_000)) + "\nx' = b",
        "a sum of 30,000 terms": "x' = " + " + ".join(["x*2"] * 20_000) + " + wrong",
        "600 levels of doubling": f"{doubling}\nx' = d599",
        "four equations with powers of 256": coupled,
        "90 choices within each other": f"x' = {nested}",
        "ten million members without values": "u[i]' = u[i-1] - u[i] for i in 1..10000000\nu[0] = 1",
        "a billion members": "u[i]' = 1 for i in 1..1000000000",
        "a gap in three million members": "u[i]' = 1 for i in 1..1500000\nu[i]' = 1 for i in 1500002..3000000",
        "a family that needs itself": "u[i]' = a[i] for i in 1..1000\na[i] = a[i-1] + a[i+1] for i in 1..1000\n"
        "a[0] = 0\na[1001] = a[1000]",
        "sums within sums": f"u[i]' = {tripled} for i in 1..99",
    }  # fmt: skip


def refuse(text: str, answer: multiprocessing.SimpleQueue) -> None:
    """Measure one text in a process of its own."""
    Problem.from_text("x' = 1", initial={"x": 1}, interval=(0, 1))
    before, begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.perf_counter()
    user_input = "accepted"
    try:
        Problem.from_text(text, initial={}, interval=(0, 1))
    except HeronError as error:
        user_input = type(error).__name__
    taken = time.perf_counter() - begun
    answer.put((user_input, taken, (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024))


def report() -> None:
    """Print what each text takes."""
    context = multiprocessing.get_context("fork")
    worst = [0.0, 0.0]
    for name, text in hard_texts().items():
        answer = context.SimpleQueue()
        process = context.Process(target=refuse, args=(text, answer))
        process.start()
        user_input, taken, grown = answer.get()
        process.join()
        worst = [max(worst[0], taken), max(worst[1], grown)]
        print(f"   {name}: {user_input} after {taken:.2f} s, {grown:.0f} MB")
    fine = worst[0] < ASKED_SECONDS and worst[1] < ASKED_MEGABYTES
    print(
        f"   at most {worst[0]:.2f} s and {worst[1]:.0f} MB (asked: under 2 s and 500 MB) {'ok' if fine else 'MISSED'}"
    )
