"""What a run amounts to: equity, metrics, the path of each trade."""
