"""The command `heron`: an interrupt while it still loads ends it without a traceback."""


def main() -> None:
    """Run the tool."""
    try:
        from unhurried_heron.cli.app import main as tool
    except KeyboardInterrupt:
        raise SystemExit(130) from None
    tool()
