"""Run with:  hemzo run -- python3 -m unittest discover examples/suites/python

Set up once for the process, reset before each test, held when one fails.
"""
import os
import unittest
import urllib.parse
import urllib.request

import psycopg2

# Workers that run side by side ask by a name of their own.
CONTROL = os.environ["HEMZO_CONTROL"] + "/w/python-" + os.environ.get("WORKER", "0")


def ask(method, path):
    request = urllib.request.Request(CONTROL + path, method=method)
    with urllib.request.urlopen(request) as answer:
        return answer.read().decode().strip()


class Hives(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.db = psycopg2.connect(ask("GET", "/connection?form=url"))
        cls.db.autocommit = True

    @classmethod
    def tearDownClass(cls):
        cls.db.close()

    def setUp(self):
        ask("POST", "/reset")

    def run(self, result=None):
        failed = len(result.failures) + len(result.errors)
        super().run(result)
        if len(result.failures) + len(result.errors) > failed:
            ask("POST", "/hold?as=" + urllib.parse.quote(self.id()))

    def labels(self):
        with self.db.cursor() as cursor:
            cursor.execute("SELECT id, label FROM hive ORDER BY id")
            return cursor.fetchall()

    def test_a_hive_is_added(self):
        with self.db.cursor() as cursor:
            cursor.execute("INSERT INTO hive (label) VALUES ('B1')")
        self.assertEqual(self.labels(), [(1, "A1"), (2, "A2"), (3, "B1")])

    def test_another_hive_is_added(self):
        with self.db.cursor() as cursor:
            cursor.execute("INSERT INTO hive (label) VALUES ('C1')")
        self.assertEqual(self.labels(), [(1, "A1"), (2, "A2"), (3, "C1")])

    def test_hives_are_there(self):
        self.assertEqual(self.labels(), [(1, "A1"), (2, "A2")])


if __name__ == "__main__":
    unittest.main()
