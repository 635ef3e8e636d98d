"""Reading and writing of files: cubes, strategies, trades."""
