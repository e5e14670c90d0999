"""A W3C WebDriver client in a page: urllib and nothing else."""
import json
import os
import urllib.error
import urllib.request

URL = os.environ.get("TESSELLANT_WEBDRIVER_URL", "http://127.0.0.1:7480/webdriver")
KEY = os.environ.get("TESSELLANT_KEY")  # only from outside: a package needs none
ELEMENT = "element-6066-11e4-a52e-4f735466cecf"


class WebDriverError(Exception):
    pass


def command(method, path, body=None):
    headers = {"Content-Type": "application/json"}
    if KEY:
        headers["Authorization"] = "Bearer " + KEY
    data = json.dumps(body or {}).encode() if method == "POST" else None
    try:
        with urllib.request.urlopen(urllib.request.Request(URL + path, data, headers, method=method)) as answer:
            return json.load(answer)["value"]
    except urllib.error.HTTPError as err:
        value = json.load(err)["value"]
        raise WebDriverError(f"{value['error']}: {value['message']}") from None


class Phone:
    def __init__(self, capabilities):
        opened = command("POST", "/session", {"capabilities": {"alwaysMatch": capabilities}})
        self.path = "/session/" + opened["sessionId"]
        self.device = opened["capabilities"]["tessellant:device"]

    def do(self, method, path, body=None):
        return command(method, self.path + path, body)

    def find(self, css):
        return self.do("POST", "/element", {"using": "css selector", "value": css})[ELEMENT]

    def sees(self, css):
        return len(self.do("POST", "/elements", {"using": "css selector", "value": css})) > 0

    def text(self, css):
        return self.do("GET", f"/element/{self.find(css)}/text")

    def displayed(self, css):
        return self.do("GET", f"/element/{self.find(css)}/displayed")

    def tap(self, css):
        self.do("POST", f"/element/{self.find(css)}/click")

    def type(self, css, text):
        self.do("POST", f"/element/{self.find(css)}/value", {"text": text})
        self.do("POST", "/tessellant/keyboard/hide")

    def fresh(self):
        self.do("POST", "/tessellant/app/clear")
        self.do("POST", "/tessellant/app/launch")

    def begin(self, name):
        self.do("POST", "/tessellant/case/begin", {"name": name})

    def end(self, verdict, message=""):
        self.do("POST", "/tessellant/case/end", {"verdict": verdict, "message": message})

    def step(self, name):
        self.do("POST", "/tessellant/step", {"name": name})

    def close(self):
        self.do("DELETE", "")
