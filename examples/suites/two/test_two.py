"""A suite whose application uses two databases. Between two tests one request puts both
back; the connections stay open.

    hemzo run -- python3 -m pytest
"""
import os
import urllib.request

import psycopg2
import pymysql
import pytest


@pytest.fixture(scope="session")
def connections():
    apiary = psycopg2.connect(os.environ["APIARY"])
    apiary.autocommit = True
    shop = pymysql.connect(host=os.environ["SHOP_HOST"], port=int(os.environ["SHOP_PORT"]),
                           user=os.environ["SHOP_USER"], password=os.environ["SHOP_PASSWORD"],
                           database=os.environ["SHOP_NAME"], autocommit=True)
    yield apiary.cursor(), shop.cursor()
    apiary.close()
    shop.close()


@pytest.fixture
def both(connections):
    yield connections
    urllib.request.urlopen(urllib.request.Request(os.environ["HEMZO_CONTROL"] + "/reset", method="POST")).read()


def buy(both, honey, jars):
    """The application: an order takes jars out of a harvest."""
    apiary, shop = both
    shop.execute("INSERT INTO purchase (honey, jars) VALUES (%s, %s)", (honey, jars))
    apiary.execute("UPDATE harvest SET jars = jars - %s WHERE hive = %s RETURNING jars", (jars, honey))
    return shop.lastrowid, apiary.fetchone()[0]


@pytest.mark.parametrize("again", range(3))
def test_an_order_takes_jars(both, again):
    assert buy(both, "linden", 15) == (1, 25)


def test_no_more_than_there_are(both):
    with pytest.raises(psycopg2.errors.CheckViolation):
        buy(both, "heather", 13)


def test_no_barrels(both):
    with pytest.raises(pymysql.err.OperationalError, match="jars, not barrels"):
        buy(both, "linden", 200)
    apiary, _ = both
    apiary.execute("SELECT sum(jars) FROM harvest")
    assert apiary.fetchone() == (52,)
