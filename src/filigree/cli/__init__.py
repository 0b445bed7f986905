"""The command line: parse arguments, ask one question, hand the answer to one view. No logic."""
