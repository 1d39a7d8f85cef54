"""The order of a run: which statements, in which order, why, and when. No other place knows it.

The pipeline carries these steps out, ``brenvik sql`` prints them, and the documentation draws them.

kinds       the plans of the kinds of run: the stages in their order
preparing   the table, made or altered
staging     which logged changes are active; from rows to changes
comparing   an extract against the table
deciding    which path each change takes, and the current path
replaying   the versions of all other keys, the row changes, the decisions
writing     the table, and what is recorded beside it
steps       what a plan is made of: steps, and the facts that a run learns
inputs      what a plan depends on besides the schema of the table
"""
