"""A suite whose application keeps in Redis what it has read from PostgreSQL. Between two
tests one request puts both back; the connections stay open.

    hemzo run -- python3 -m pytest
"""
import os
import urllib.request

import psycopg2
import pytest
import redis


@pytest.fixture(scope="session")
def connections():
    apiary = psycopg2.connect(os.environ["APIARY"])
    apiary.autocommit = True
    yield apiary.cursor(), redis.Redis.from_url(os.environ["CACHE"], decode_responses=True)
    apiary.close()


@pytest.fixture
def both(connections):
    yield connections
    urllib.request.urlopen(urllib.request.Request(os.environ["HEMZO_CONTROL"] + "/reset", method="POST")).read()


def jars(both, honey):
    """The application: how many jars there are, read once and then from the cache."""
    apiary, cache = both
    kept = cache.get("jars:" + honey)
    if kept is None:
        apiary.execute("SELECT jars FROM harvest WHERE honey = %s", (honey,))
        kept = apiary.fetchone()[0]
        cache.set("jars:" + honey, kept, ex=600)
    return int(kept)


def order(both, honey, n):
    apiary, cache = both
    apiary.execute("UPDATE harvest SET jars = jars - %s WHERE honey = %s", (n, honey))
    cache.delete("jars:" + honey)
    return cache.rpush("orders", f"{honey} {n}")


@pytest.mark.parametrize("again", range(3))
def test_an_order_takes_jars(both, again):
    assert jars(both, "linden") == 40
    assert order(both, "linden", 15) == 2
    assert jars(both, "linden") == 25


def test_what_is_kept_may_be_old(both):
    apiary, _ = both
    apiary.execute("UPDATE harvest SET jars = 0")
    assert jars(both, "heather") == 12


def test_what_is_kept_goes_by_itself(both):
    _, cache = both
    assert 500 < cache.ttl("jars:heather") <= 600


def test_an_empty_cache_is_filled(both):
    apiary, cache = both
    cache.flushall()
    assert jars(both, "heather") == 12
    assert cache.keys("*") == ["jars:heather"]
