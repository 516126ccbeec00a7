"""Where the program starts: completions are answered before the command line is loaded."""

import sys


def main() -> None:
    """Run the program."""
    if sys.argv[1:3] == ["completion", "words"]:
        from yeldro.completion.answer import print_answer

        print_answer(sys.argv[3:])
    from yeldro.cli.main import main as run

    run()


if __name__ == "__main__":
    main()
