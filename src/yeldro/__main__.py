"""Where the program starts: completions are answered before the command line is loaded."""

import gc
import sys

# So many more objects there are when the next look for garbage is taken: what a command loads is a
# hundred thousand of them and stays, and to look at it again and again takes a tenth of its time.
_MORE_OBJECTS = 200_000


def main() -> None:
    """Run the program."""
    gc.set_threshold(_MORE_OBJECTS)
    if sys.argv[1:3] == ["completion", "words"]:
        from yeldro.completion.answer import print_answer

        print_answer(sys.argv[3:])
    from yeldro.cli.main import main as run

    run()


if __name__ == "__main__":
    main()
