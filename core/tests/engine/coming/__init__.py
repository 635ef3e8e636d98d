"""One rule of each kind, small enough to work its numbers out by hand; written as any rule is, with public names only."""
