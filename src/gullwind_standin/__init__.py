"""A stand-in for the server of Gullwind, an imaginary game, as nasty as real ones.

It shares no code with Round Gate.
"""
