"""Compiles what rules ask of arrays, before anybody waits for it."""

from strell_core.engine.variants import compile_ahead

if __name__ == "__main__":
    compile_ahead()
