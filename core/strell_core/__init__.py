"""The rules of the job and its computation: arrays and frozen values in and out.

No clock, database, network or interface code lives here.
"""
