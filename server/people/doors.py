"""What each operation asks of whoever calls it: the one table.

A session of a browser may do all that its person may. A token may do what its scope says: each allows what those
before it allow. An operation that is missing here is open to nobody, and a test says so.
"""

from __future__ import annotations

SCOPES = ("read", "research", "paper", "trade")
"""Reading; research: strategies, runs, replays, data; trading on paper; trading at a broker."""
READ, RESEARCH, PAPER, TRADE = SCOPES
OPEN = "open"
"""Anybody, signed in or not."""
PERSON = "person"
"""A person in a browser; no token, whatever its scope: what gives or widens rights."""
ACCOUNT = "account"
"""*paper* or *trade*, by the kind of the account that it touches; the operation itself looks."""

DOORS: dict[str, str] = {
    # people
    "me": OPEN, "sign_in": OPEN, "sign_out": PERSON, "confirm_password": PERSON, "tokens": PERSON, "make_token": PERSON,
    "revoke_token": PERSON,
    # the market as it was
    "underlyings": READ, "sessions": READ, "snapshots": READ, "surface": READ, "chain": READ, "what_if": READ,
    # data: whose it is decides, beside the scope
    "holdings": READ, "data_words": READ, "coverage": READ, "export_quotes": READ, "remove_sessions": RESEARCH,
    "undo_removal": RESEARCH, "intakes": READ, "upload": RESEARCH, "intake": READ, "forget_intake": RESEARCH,
    "preview_intake": RESEARCH, "start_intake": RESEARCH, "cancel_intake": RESEARCH, "take_back_intake": RESEARCH,
    "rejects": READ, "mappings": READ, "save_mapping": RESEARCH, "forget_mapping": RESEARCH, "set_dividends": RESEARCH, "copy_data": RESEARCH,
    "change_terms": RESEARCH, "change_terms_back": RESEARCH, "calendars": READ, "keep_calendar": RESEARCH,
    "forget_calendar": RESEARCH, "others": READ, "export_rates": READ, "export_series": READ, "facts": READ,
    "export_facts": READ, "remove_fact": RESEARCH,
    # strategies
    "declarations": READ, "strategy_schema": OPEN, "starters": READ, "strategies": READ, "create_strategy": RESEARCH,
    "strategy_from_legs": RESEARCH, "strategy": READ, "revise_strategy": RESEARCH, "delete_strategy": RESEARCH,
    "restore_strategy": RESEARCH, "duplicate_strategy": RESEARCH, "mirror_sentence": RESEARCH, "add_entry": RESEARCH, "revisions": READ, "describe_revision": RESEARCH, "revision_differences": READ,
    "go_back": RESEARCH, "strategy_text": READ, "strategy_file": READ, "check_text": READ, "preview": READ, "additions": READ,
    # backtests
    "figures": READ, "strip": READ, "runs": READ, "ask_run": RESEARCH, "active_runs": READ, "run": READ, "delete_run": RESEARCH, "describe_run": RESEARCH, "extend_run": RESEARCH,
    "restore_run": RESEARCH, "cancel_run": RESEARCH, "go_on_run": RESEARCH, "run_trade": READ, "other_exits": READ, "run_file": READ, "run_report": READ, "compare_report": READ, "latest_runs": READ, "find_trades": READ, "find_contracts": READ, "latest_replays": READ,
    "slice_measures": READ, "run_slices": READ, "run_luck": READ, "run_course": READ, "compare_runs": READ,
    "dials": READ, "hold_back": RESEARCH, "sweeps": READ, "sweep": READ, "walk_sweep": READ, "ask_sweep": RESEARCH, "cancel_sweep": RESEARCH, "go_on_sweep": RESEARCH,
    "delete_sweep": RESEARCH, "restore_sweep": RESEARCH, "open_cell": RESEARCH,
    # replays
    "replays": READ, "start_replay": RESEARCH, "replay": READ, "describe_replay": RESEARCH, "delete_replay": RESEARCH,
    "move_replay": RESEARCH, "trade_replay": RESEARCH, "close_replay_position": RESEARCH, "let_replay_rules_act": RESEARCH,
    "undo_replay": RESEARCH, "restore_replay": RESEARCH,
    # the practice market; beside the scope only who operates it moves it
    "clock": READ, "run_clock": TRADE, "pause_clock": TRADE, "jump_clock": TRADE, "next_session": TRADE,
    "hush_clock": TRADE, "live_chain": READ, "live_path": READ, "broker_faults": READ, "play_fault": TRADE,
    # the desk
    "accounts": READ, "open_account": ACCOUNT, "desk": READ, "set_limits": PERSON, "take_over": PERSON,
    "preview_ticket": READ, "place_order": ACCOUNT, "order": READ, "cancel_order": ACCOUNT, "change_order": ACCOUNT,
    "position": READ, "protect_position": ACCOUNT, "close_position": ACCOUNT, "halt": ACCOUNT, "checklist": READ,
    "deployments": READ, "promote": ACCOUNT, "arm": ACCOUNT, "disarm": ACCOUNT, "end_deployment": ACCOUNT,
    "compare_session": READ, "deployment_outlook": READ, "journal": READ, "journal_kinds": READ, "journal_csv": READ,
}  # fmt: skip
