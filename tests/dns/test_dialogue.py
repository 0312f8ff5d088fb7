"""The runner: pooled, each distinct question once, resumed as soon as the batch is whole."""

from __future__ import annotations

from salt_mirror.dns.dialogue import Dialogue, Runner, together
from salt_mirror.dns.names import from_text
from salt_mirror.dns.questions import Question, Server
from salt_mirror.dns.records import A
from support.tables import Table

SERVER = Server("one", bytes((127, 0, 0, 1)))


def question(name: str) -> Question:
    return Question(from_text(name), A, SERVER)


def dialogue(*rounds: list[str]) -> Dialogue[list[list[int]]]:
    heard = []
    for names in rounds:
        answers = yield [question(name) for name in names]
        assert [answer.question for answer in answers] == [question(name) for name in names]
        heard.append([len(answer.values) for answer in answers])
    return heard


def test_every_distinct_question_is_asked_once_and_every_dialogue_gets_its_answers() -> None:
    table = Table({("one", "a.example", "A"): ["192.0.2.1"], ("one", "b.example", "A"): ["192.0.2.1", "192.0.2.2"]})
    runner = Runner(table)
    talks = [dialogue(["a.example", "b.example", "a.example"], ["c.example"], []) for _ in range(50)]
    assert list(runner.run(talks)) == [[[1, 2, 1], [0], []]] * 50
    assert len(table.asked) == 3
    assert (runner.asked, runner.saved) == (3, 50 * 4 - 3)


def test_dialogues_begin_as_the_pipe_empties_and_all_of_them_end() -> None:
    table = Table({})
    runner = Runner(table, ahead=10)
    highest = 0

    def watched() -> Dialogue[int]:
        nonlocal highest
        highest = max(highest, table.backlog)
        answers = yield [question(f"h{len(table.asked)}.example")]
        return len(answers)

    assert sum(runner.run(watched() for _ in range(1000))) == 1000
    assert highest <= 10


def test_those_that_wait_for_one_and_the_same_question_are_not_all_begun_at_once() -> None:
    runner = Runner(Table({}), ahead=10)
    open_now, most = 0, 0

    def waiting(number: int) -> Dialogue[int]:
        nonlocal open_now, most
        open_now += 1
        most = max(most, open_now)
        yield [question(f"h{number // 500}.example")]  # five hundred of them have the same one
        open_now -= 1
        return number

    assert sorted(runner.run(waiting(number) for number in range(2000))) == list(range(2000))
    assert most <= 20 and runner.asked == 4


def test_together_joins_the_rounds_of_several_dialogues() -> None:
    table = Table({("one", "a.example", "A"): ["192.0.2.1"]})
    talk = together([dialogue(["a.example"], ["b.example"]), dialogue(["a.example"]), dialogue()])
    assert next(Runner(table).run([talk])) == [[[1], [0]], [[1]], []]
