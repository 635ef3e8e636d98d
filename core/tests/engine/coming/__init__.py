"""Rules of kinds that are still to come, one file each, written as such a rule would be: with public names only."""
