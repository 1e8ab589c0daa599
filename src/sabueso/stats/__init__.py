"""Pure mathematics: arrays in, frozen dataclasses out. One method a file, each with its source."""
