"""Rounds: one pass of gather, announce, stop, save, write, start, prove; rewound where it is not proven."""
