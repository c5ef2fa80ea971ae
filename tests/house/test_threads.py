"""Parts of one computation on several processors: in order, whoever did which, and whatever one of them raises."""

from __future__ import annotations

import os
import sys
import threading
import time

import numpy as np
import pytest

from bold_orchard import threads, workers
from bold_orchard.crossproducts import batched, by_level
from bold_orchard.data.table import Table
from bold_orchard.design.design import Options
from bold_orchard.inference.fit import Settings, fit
from bold_orchard.threads import at_once, dismiss, load_beside


@pytest.fixture(params=[1, 2, 5])
def processors(request, monkeypatch):
    monkeypatch.setattr(threads, "_kept", [request.param])
    return request.param


def test_results_come_in_order_from_as_many_as_there_are(processors):
    seen = set()

    def work(job):
        seen.add(threading.get_ident())
        time.sleep(0.002 * (5 - job % 5))
        return job * job

    assert threads.at_once(work, range(40)) == [k * k for k in range(40)]
    assert len(seen) == processors and max(map(len, threads._crew.values()), default=0) >= processors - 1
    assert threads.at_once(work, []) == [] and threads.at_once(work, [3]) == [9]


def test_what_one_raises_is_raised_when_all_have_ended(processors):
    begun = []

    def work(job):
        begun.append(job)
        if job == 2:
            raise np.linalg.LinAlgError("not this one")
        time.sleep(0.01)

    with pytest.raises(np.linalg.LinAlgError, match="not this one"):
        threads.at_once(work, range(1000))
    assert len(begun) < 20


def test_work_inside_work_and_of_other_threads_is_done_by_whoever_asks(processors):
    inner = threads.at_once(lambda k: sum(threads.at_once(lambda m: k * m, range(5))), range(50))
    assert inner == [10 * k for k in range(50)]
    found = []
    asking = [
        threading.Thread(target=lambda: found.append(threads.at_once(lambda m: m + 1, range(200)))) for _ in range(6)
    ]
    for thread in asking:
        thread.start()
    for thread in asking:
        thread.join()
    assert found == [[*range(1, 201)]] * 6


@pytest.mark.skipif(not hasattr(os, "fork"), reason="processes are not forked here")
def test_a_forked_process_finds_helpers_of_its_own(processors):
    threads.at_once(abs, range(10))
    pid = os.fork()
    if not pid:
        os._exit(0 if threads.at_once(abs, range(-10, 0)) == [*range(10, 0, -1)] else 1)
    assert os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]) == 0
    threads.dismiss()
    assert not any(t.name == "helper" for t in threading.enumerate())


def test_errors_of_arithmetic_are_as_silent_in_helpers_as_here(processors, recwarn):
    with np.errstate(all="ignore"):
        made = threads.at_once(lambda k: np.log(np.full(3, -1.0 - k)), range(10))
    assert np.isnan(made).all() and not recwarn.list


def test_a_process_that_shares_its_work_keeps_to_one_processor():
    asked = workers.run(lambda i: np.array([threads.processors()]), 25, lambda done, of: None)
    assert asked.ravel().tolist() == [1] * 25 or threads.processors() == 1


@pytest.mark.parametrize("family", ["gaussian", "binomial"])
def test_fits_of_many_rows_are_the_same_to_the_last_bit(monkeypatch, family):
    r = np.random.default_rng(3)
    n = 6_000
    monkeypatch.setattr(by_level, "PIECE", 1_000)
    monkeypatch.setattr(batched, "CHUNK", 100)
    orchard, rain = r.integers(0, 2_600, n), r.normal(size=n)
    y = 0.4 * rain + r.normal(size=2_600)[orchard] + r.normal(size=n)
    y = y if family == "gaussian" else (y > 0) * 1.0
    columns = {"orchard": orchard, "picker": r.integers(0, 12, n), "rain": rain, "crop": y}
    sentence = "crop = rain; each orchard: intercept + rain; each picker: intercept"
    found = []
    for count in (1, 2, 3):
        monkeypatch.setattr(threads, "_kept", [count])
        made = fit(sentence, Table(columns, "made", n), Settings(options=Options(family=family)))
        found.append([made.evaluation.deviance, *made.evaluation.theta, *made.model.found.hessian.ravel()])
    assert found[0] == found[1] == found[2]


def test_modules_loaded_beside_are_there_before_a_fork():
    load_beside("xml.dom.minidom", "no_such_module", "xml.sax")
    dismiss()
    assert "xml.dom.minidom" in sys.modules and not [t for t in threading.enumerate() if t.name == "loader"]


def test_forking_from_beside_other_work_is_a_mistake_that_is_told(monkeypatch):
    monkeypatch.setattr(threads, "PATIENCE", 0.05)
    monkeypatch.setattr(threads, "_kept", [2])
    with pytest.raises(RuntimeError, match="cannot be forked"):
        at_once(lambda _: dismiss(), [0, 1])
