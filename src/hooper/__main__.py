"""`python -m hooper` is the same program as `hooper`."""

from hooper.cli.main import run

if __name__ == "__main__":
    run()
