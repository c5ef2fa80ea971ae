"""Work shared among processes: in order, whole, and ended with one line whatever ends it."""

from __future__ import annotations

import multiprocessing
import os
import signal
import time

import numpy as np
import pytest

from bold_orchard import workers
from bold_orchard.design import engines
from bold_orchard.errors import OrchardError

forks = pytest.mark.skipif(not workers.can_fork(), reason="processes are not forked here")


def none_left():
    for _ in range(100):
        if not multiprocessing.active_children():
            return True
        time.sleep(0.05)
    return False


def square(k, size):
    return {"k": k, "values": np.full(size, k, dtype=float), "text": "t" * k, "order": np.arange(12).reshape(3, 4).T}


@forks
@pytest.mark.parametrize("room", [10_000_000, 64])
def test_results_come_back_whole_and_in_order(monkeypatch, room):
    """Through shared memory, or past it where that is too small."""
    monkeypatch.setattr(engines, "ROOM", room)
    jobs = [(k, 1000 * (k % 3)) for k in range(11)]
    for made, (k, size) in zip(engines.Forked(2).each(square, jobs), jobs, strict=True):
        assert made["k"] == k and made["text"] == "t" * k
        assert made["values"].tolist() == [float(k)] * size
        made["values"] += 1.0  # its own memory: the next result does not lie on it
        assert np.array_equal(made["order"], np.arange(12).reshape(3, 4).T)
    assert none_left()


@forks
def test_sums_do_not_depend_on_who_made_them():
    jobs = [(k,) for k in range(9)]
    work = lambda k: np.array([0.1 * k, 1 / (k + 1)])  # noqa: E731
    here = engines.Engine().joined(work, jobs, np.add, lambda done: None)
    for count in (1, 2, 3):
        assert np.array_equal(engines.Forked(count).joined(work, jobs, np.add, lambda done: None), here)


def killed(k):
    if k == 3:
        os.kill(os.getpid(), signal.SIGKILL)
    return np.zeros(1)


def failed(k):
    raise OrchardError("this part is odd")


@forks
def test_a_process_ended_from_outside_is_one_line():
    with pytest.raises(OrchardError, match="want of memory"):
        workers.run(killed, 40, lambda done, of: None)
    with pytest.raises(OrchardError, match="want of memory"):
        list(engines.Forked(2).each(killed, [(k,) for k in range(8)]))
    assert none_left()


@forks
def test_what_a_part_complains_of_is_heard():
    with pytest.raises(OrchardError, match="this part is odd"):
        list(engines.Forked(2).each(failed, [(k,) for k in range(8)]))
    assert none_left()


@forks
def test_work_broken_off_leaves_no_process():
    results = engines.Forked(2).each(square, [(k, 10) for k in range(50)])
    next(results)
    results.close()
    assert none_left()


@forks
@pytest.mark.parametrize("system", ["darwin", "win32"])
def test_systems_without_forks_give_the_same_digits(system, monkeypatch):
    task = lambda i: np.random.default_rng([7, i]).normal(size=3)  # noqa: E731
    shared = workers.run(task, 45, lambda done, total: None)
    monkeypatch.setattr(workers.sys, "platform", system)
    monkeypatch.setattr(workers.multiprocessing, "get_context", None)  # whoever begins a process fails
    assert not workers.can_fork()
    assert type(engines.engine_here(8, 10**12)) is engines.Engine
    assert np.array_equal(workers.run(task, 45, lambda done, total: None), shared)


@forks
def test_a_few_tasks_wait_at_a_time_and_results_keep_their_order():
    made = workers.run(lambda i: np.array([float(i)]), 1234, lambda done, total: None)
    assert made.ravel().tolist() == list(range(1234))
