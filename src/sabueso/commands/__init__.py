"""The commands: each does its work on a case and returns an answer, whatever form that is given in."""
