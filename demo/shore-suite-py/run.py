"""Runs the tests and writes results/shore.xml, as JUnit XML."""
import datetime
import os
import pathlib
import sys
import time
import unittest
import xml.etree.ElementTree as xml


class Result(unittest.TextTestResult):
    """Tells the device how each test came out, and keeps it for the report."""

    def startTestRun(self):
        super().startTestRun()
        self.suite = xml.Element("testsuite", name="shore", timestamp=datetime.datetime.now(datetime.timezone.utc).isoformat(timespec="milliseconds"))

    def startTest(self, test):
        super().startTest(test)
        self.began, self.outcome = time.monotonic(), None

    def stopTest(self, test):
        super().stopTest(test)
        case = xml.SubElement(self.suite, "testcase", name=test._testMethodName, classname=type(test).__name__, time=f"{time.monotonic() - self.began:.3f}",
                              timestamp=(datetime.datetime.now(datetime.timezone.utc) - datetime.timedelta(seconds=time.monotonic() - self.began)).isoformat(timespec="milliseconds"))
        if self.outcome:
            kind, message, text = self.outcome
            xml.SubElement(case, kind, message=message).text = text
        if not self.outcome or self.outcome[0] != "skipped":
            test.phone.end("failed" if self.outcome else "passed", self.outcome[1] if self.outcome else "")

    def addFailure(self, test, err):
        super().addFailure(test, err)
        self.outcome = ("failure", str(err[1]), self._exc_info_to_string(err, test))

    def addError(self, test, err):
        super().addError(test, err)
        self.outcome = ("error", str(err[1]), self._exc_info_to_string(err, test))

    def addSkip(self, test, reason):
        super().addSkip(test, reason)
        self.outcome = ("skipped", reason, "")


if __name__ == "__main__":
    os.chdir(pathlib.Path(__file__).parent)
    result = unittest.TextTestRunner(sys.stdout, verbosity=2, resultclass=Result).run(unittest.defaultTestLoader.discover("."))
    pathlib.Path("results").mkdir(exist_ok=True)
    xml.ElementTree(result.suite).write("results/shore.xml", encoding="utf-8", xml_declaration=True)
    sys.exit(not result.wasSuccessful())
