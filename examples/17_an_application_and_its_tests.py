"""An application and its tests: nothing is sent, no key is needed, and what goes wrong is met all the same.

Run its tests:   python examples/17_an_application_and_its_tests.py      (or pytest on this file)
"""

import io
import unittest
from dataclasses import dataclass

import agouti
from agouti.testing import offline, scripted

CONFIG = {
    "providers": {"northbank": {"address": "https://api.northbank.example/v1", "key": {"env": "NORTHBANK_KEY"}}},
    "models": {
        "almanac": {"provider": "northbank", "name": "quill-large", "fallback": ["spare"]},
        "spare": {"provider": "northbank", "name": "quill-small"},
    },
}


@dataclass
class Advice:
    """What a grower is told."""

    month: str
    under_glass: bool


class Helper:
    """The application."""

    def __init__(self) -> None:
        self._client = agouti.Client(CONFIG)

    def advice(self, crop: str) -> Advice:
        return self._client.fill("almanac", Advice, f"When does {crop} go in, and under glass?").value

    def close(self) -> None:
        self._client.close()


class HelperTest(unittest.TestCase):
    def setUp(self) -> None:
        self.helper = Helper()
        self.addCleanup(self.helper.close)

    def test_advice_is_read(self) -> None:
        with scripted() as script:
            script.reply(Advice("April", under_glass=True), pattern="tomatoes")
            self.assertEqual(self.helper.advice("tomatoes"), Advice("April", under_glass=True))
            self.assertIn("tomatoes", script.sent[0].text)

    def test_an_answer_that_does_not_fit_is_asked_for_again(self) -> None:
        with scripted() as script:
            script.reply("Some time in spring.", Advice("March", under_glass=False))
            self.assertEqual(self.helper.advice("peas").month, "March")
            self.assertEqual(len(script.sent), 2)

    def test_the_spare_model_takes_over(self) -> None:
        with scripted() as script:
            script.error(agouti.OutOfCredit, label="almanac")
            script.reply(Advice("May", under_glass=False), label="spare")
            self.assertEqual(self.helper.advice("beans").month, "May")

    def test_nothing_goes_out_by_mistake(self) -> None:
        client = agouti.Client.at("https://api.northbank.example/v1")
        self.addCleanup(client.close)
        with self.assertRaisesRegex(AssertionError, "would have cost"), offline():  # noqa: SIM117
            with self.assertRaises(agouti.AgoutiError):
                client.ask("quill-large", "Peas?")


if __name__ == "__main__":
    tests = unittest.defaultTestLoader.loadTestsFromTestCase(HelperTest)
    result = unittest.TextTestRunner(stream=io.StringIO(), verbosity=0).run(tests)
    print(f"{result.testsRun} tests, {len(result.failures) + len(result.errors)} failed")
    raise SystemExit(not result.wasSuccessful())
