"""Languages: one file each. What its code looks like, where its toolchain is, how an answer is built and run.

A language is a module of this package with a ``Language``; modules of third parties add theirs through the
entry-point group ``kettlefield.languages``.
"""
