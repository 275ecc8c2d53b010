"""Where rows come from: all of them in memory, or a part at a time from files or from a cluster.

What goes in: a source that can hand over typed columns a part at a time. What comes out: arrays that stand for one value a row and are
computed with like others, and `each_part`, which applies a function to every part so that its small results can be merged. Rows
in memory are one part.
"""
