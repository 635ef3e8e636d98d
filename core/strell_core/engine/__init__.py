"""One engine for every stage: advance, blocks, fills, costs, settlement, ledger."""
