"""Compiled loops, by what they do; all work on flat buffers at offsets.

Numbers of a layer lie features outside and examples inside: unit or channel h of a batch of N
columns (the B examples, or the P B pixels of pictures) is the stretch ``[offset + h N, offset + (h
+ 1) N)``. Loops so run over long stretches whatever the number of units. Offsets and indices are
unsigned: a signed index might count from the end, which keeps a loop from taking several numbers at
a time.

A sum is made in whatever order the compiler makes fast; it is the same order every time.
"""
