"""Damage and slips: what a program or a hand did to cells. Emits findings and decides nothing."""
