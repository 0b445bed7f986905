"""The families of systems: where each keeps its records, and by which rules it lives.

Everything else speaks to a family through the protocols of `protocol`; `registry` finds them.
"""
