"""Two people cannot see or touch each other's work, beyond what :mod:`config.tests.test_doors` asks of every route."""

from __future__ import annotations

from config.tests.everything import WithEverything


class IsolationTest(WithEverything):
    def test_revising_with_a_good_document_is_not_there_either(self) -> None:
        body = {"based_on": 1, "document": self.strategy.latest.document}
        self.assertEqual(self.send("put", f"/strategies/{self.strategy.pk}", body, self.other)[0], 404)

    def test_lists_hold_only_what_is_ones_own(self) -> None:
        for path in ("/strategies", "/runs", "/intakes", "/mappings"):
            self.assertEqual(self.send("get", path, client=self.other), (200, []))

    def test_a_replay_cannot_be_started_from_another_persons_run(self) -> None:
        body = {"run": self.run_.pk, "trade": self.number}
        self.assertEqual(self.send("post", "/replays", body, self.other)[0], 404)
        self.assertEqual(self.send("post", "/replays", {"strategy": self.strategy.pk}, self.other)[0], 404)

    def test_what_can_be_named_beside_the_path_is_ones_own_too(self) -> None:
        mine = f"?account={self.account.pk}"
        self.assertEqual(self.send("get", f"/market/MK30/live{mine}", client=self.other)[0], 404)
        self.assertEqual(self.send("post", "/halt", {"account": self.account.pk}, self.other)[0], 404)
        for path in ("/accounts", "/tokens"):
            self.assertEqual(self.send("get", path, client=self.other), (200, []))
        self.assertEqual(self.send("get", f"/journal{mine}", client=self.other)[1]["rows"], [])
        answer = self.other.get(f"/api/journal.csv{mine}")
        self.assertEqual(b"".join(answer.streaming_content).count(b"\r\n"), 1)

    def test_another_persons_strategy_cannot_be_promoted_nor_into_anothers_account(self) -> None:
        body = {"account": self.account.pk, "looked_at": True}
        self.assertEqual(self.send("post", f"/strategies/{self.strategy.pk}/promote", body, self.other)[0], 404)
        from config.tests.demo import document
        from strategies import services as strategies

        theirs = strategies.create(self.odil, document())
        self.assertEqual(self.send("post", f"/strategies/{theirs.pk}/promote", body, self.other)[0], 404)
