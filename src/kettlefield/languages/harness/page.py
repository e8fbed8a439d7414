"""Runs inside the isolation: opens the answer's page in a browser, carries out steps, tells what is seen.

What is expected of it never comes in here: targets and quantities go in, what was found goes out.
"""

import base64
import contextlib
import itertools
import json
import mimetypes
import os
import re
import signal
import sys

sys.path += filter(None, os.environ.pop("PACKAGES", "").split(":"))

from playwright.sync_api import Error, sync_playwright

# nothing listens: every request is answered from the files, or refused. Each visit has a port of its own, so what a
# page keeps is kept from all others, and the window goes from one to the next in one step
ORIGIN = re.compile(r"http://localhost:(\d+)/([^?#]*)")
FIRST_PORT, PORTS = 20_000, 40_000
ACTION_MS = 1500
PICTURE_MS = 10_000  # a picture is ours to take: on a busy host that it takes long says nothing of the page
TURN_MS = 50  # of the page's clock, that every action takes
QUIET_MS, MOST_LOOKS = 6, 160
LATE_MS = 200  # for what a style brings in late; a page at rest shows nothing new by itself
CLOCK_STARTS, CLOCK_STANDS = "2031-03-10T08:00:00Z", "2031-03-10T08:00:01Z"
MAX_TEXT, MAX_LIST, MAX_ERRORS = 2000, 200, 10
MAX_PICTURE_PX = 1600  # of a page's height
# counted apart, so that a page of millions of elements is named before anything walks it
COUNT = "document.getElementsByTagName('*').length"
# the browser's own timer, before the page's clock is put in its place
LATER = "Object.defineProperty(window, '__later', {value: window.setTimeout.bind(window)});"
# let the page's clock run on, then say how often the document changes in a while of ours; the page's own timers
# stand still meanwhile. The driver's own way to do the first keeps each turn for every page that is opened later
TURN = """async ([turn, quiet]) => {
  if (turn) await __pwClock.controller.runFor(turn);
  if (window.__changes === undefined) {
    window.__changes = 0;
    new MutationObserver(seen => { window.__changes += seen.length; })
      .observe(document, {subtree: true, childList: true, attributes: true, characterData: true});
  }
  const before = window.__changes;
  if (quiet) await new Promise(done => window.__later(done, quiet));
  return window.__changes - before;
}"""


def script(name):
    """A function for the browser from beside this file."""
    with open(os.path.join(os.path.dirname(os.path.abspath(__file__)), name), encoding="utf-8") as file:
        return file.read().strip()


INVENTORY, READ = script("inventory.js"), script("reading.js")
# the same for many selectors in one call; nothing where one is not the browser's own, or elements hide in shadows
READ_MANY = """([groups, most]) => {
  for (const element of document.querySelectorAll("*")) if (element.shadowRoot) return null;
  try {
    return groups.map(([css, asked]) => (READ)([...document.querySelectorAll(css)], [asked, most]));
  } catch (error) {
    if (error instanceof DOMException && error.name === "SyntaxError") return null;
    throw error;
  }
}""".replace("READ", READ)
FOCUSED = """() => { const at = document.activeElement;
  return at && at !== document.body ? (at.__place ?? -1) : -1; }"""


def main():
    descriptor, order = int(sys.argv[1]), json.load(sys.stdin)
    # each answer lies in a folder of its own: 0, 1 ...
    files = {name: open(name, "rb").read() for name in order["files"]}  # noqa: SIM115

    def send(**record):
        line = f"{order['nonce']} {json.dumps(record)}\n".encode()
        while line:
            line = line[os.write(descriptor, line) :]

    place = {"visit": None, "step": 0}

    def stuck(*_):
        send(stuck=place)
        os._exit(0)

    signal.signal(signal.SIGALRM, stuck)
    signal.alarm(4 * order["stuck_s"])  # starting a browser on a busy machine
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(
            executable_path=order["browser"],
            chromium_sandbox=False,  # this process tree is shut in as a whole
            args=["--disable-dev-shm-usage", "--disable-gpu", "--force-color-profile=srgb"],
        )
        send(opened=browser.version)
        visits = Visits(browser, files, order, send, place)
        for number, visit in enumerate(order["visits"]):
            place.update(visit=number, step=0)
            signal.alarm(order["stuck_s"])
            visits.run(number, visit)
        send(finished=True)
        os._exit(0)  # what is left of the browser dies with the isolation


class Visits:
    """One page after the other in one window, each with nothing kept from the one before."""

    def __init__(self, browser, files, order, send, place):
        self.files, self.order, self.send, self.place = files, order, send, place
        self.browser = browser
        self.port, self.awaited = None, False
        self.begin()
        self.open()

    def open(self):
        self.worn, self.page = False, None
        context = self.browser.new_context(
            service_workers="block",
            accept_downloads=False,
            reduced_motion="reduce",
            locale="en-GB",
            timezone_id="UTC",
        )
        context.set_default_timeout(ACTION_MS)
        context.set_default_navigation_timeout(self.order["stuck_s"] * 1000)
        # time passes when a step lets it: what a page shows hangs neither on the day nor on how busy the rig is
        context.add_init_script(LATER)
        context.clock.install(time=CLOCK_STARTS)
        context.clock.pause_at(CLOCK_STANDS)
        context.route("**/*", self.answer)
        context.on("page", self.popup)
        self.page = context.new_page()
        self.page.on("framenavigated", self.arrived)
        self.page.on("request", lambda _: self.asked(1))
        self.page.on("requestfinished", lambda _: self.asked(-1))
        self.page.on("requestfailed", lambda _: self.asked(-1))
        self.page.on("console", self.said)
        self.page.on("pageerror", lambda error: self.error(f"uncaught: {error}"))
        self.page.on("dialog", self.dialog)
        self.page.on("crash", lambda _: self.error("the page's process ended"))
        self.page.on("websocket", lambda socket: self.leave("websocket", socket.url))

    def begin(self):
        self.errors, self.outside, self.dialogs, self.popups = [], [], 0, 0
        self.under_way = 0

    def arrived(self, frame):
        """What the page before said while it was left is none of this one's."""
        if self.awaited and frame is self.page.main_frame and self.is_ours(frame.url):
            self.awaited = False
            self.begin()

    def is_ours(self, url):
        match = ORIGIN.match(url)
        return match is not None and int(match[1]) == self.port

    def asked(self, change):
        self.under_way = max(0, self.under_way + change)  # of the page before, some may end in this one

    def error(self, text):
        if len(self.errors) < MAX_ERRORS:
            self.errors.append(text[:MAX_TEXT])

    def leave(self, kind, url):
        if len(self.outside) < MAX_ERRORS:
            self.outside.append([kind, url[:MAX_TEXT]])

    def said(self, message):
        if message.type == "error":
            self.error(f"console: {message.text}")

    def dialog(self, dialog):
        if dialog.type == "beforeunload":
            dialog.accept()  # a page does not keep us from leaving it
            return
        self.dialogs += 1
        dialog.dismiss()

    def popup(self, page):
        if self.page is not None and page is not self.page:
            self.popups += 1
            page.close()

    def answer(self, route):
        url = route.request.url
        if not self.is_ours(url):
            self.leave(route.request.resource_type, url)
            route.abort()
            return
        name = ORIGIN.match(url)[2] or self.order["main"]
        path = f"{self.answer_number}/{name}"
        if path in self.files:
            kind = mimetypes.guess_type(name)[0] or "application/octet-stream"
            charset = "; charset=utf-8" if kind.startswith("text/") or kind.endswith(("javascript", "json")) else ""
            route.fulfill(body=self.files[path], content_type=kind + charset)
        elif name == "favicon.ico":
            route.fulfill(status=204)  # the browser's own wish, not the page's
        else:
            route.fulfill(status=404, body="")

    def run(self, number, visit):
        found = {"visit": number, "seen": [], "fault": None, "elements": 0}
        try:
            self.go_to(number, visit)
            self.settle()
            found["elements"] = self.page.evaluate(COUNT)
            if found["elements"] <= self.order["most_elements"]:
                self.look(visit, found)
        except Error as error:
            found["fault"] = words(error)
        failed = any("failed" in one for one in found["seen"])
        self.worn = self.worn or bool(failed or found["fault"] or self.errors or self.dialogs or self.popups)
        self.send(**found, errors=self.errors, outside=self.outside, dialogs=self.dialogs, popups=self.popups)

    def go_to(self, number, visit):
        """To the page of a visit, with nothing of the one before: in a window of its own where that is not sure."""
        context = self.page.context
        if self.worn:
            context.close()
            self.open()
        elif number:
            context.clear_cookies()  # they know no port
        self.page.set_viewport_size(dict(zip(("width", "height"), visit["size"], strict=True)))
        self.answer_number, self.port, self.awaited = visit["answer"], FIRST_PORT + number % PORTS, True
        self.begin()
        self.page.goto(f"http://localhost:{self.port}/{self.order['main']}")

    def look(self, visit, found):
        if visit["picture"]:
            found["picture"] = base64.b64encode(self.picture()).decode()
        if visit["rules"]:
            found["inventory"] = self.inventory()
        steps = visit["steps"]
        while self.place["step"] < len(steps):
            ahead = steps[self.place["step"] :]
            signal.alarm(self.order["stuck_s"])
            if not (self.read(ahead, found["seen"]) if ahead[0]["do"] == "expect" else self.act(ahead[0], found)):
                self.page.evaluate("0")  # a page that hangs answers nothing: the alarm ends it
                return
        if visit["rules"]:
            found["reached"] = self.reached(found["inventory"])

    def settle(self):
        """Let the page's clock run on a little, then wait in ours until it loads nothing and changes no more."""
        turn = TURN_MS
        for _ in range(MOST_LOOKS):
            try:
                changes = self.turn(turn, QUIET_MS)
            except Error as error:
                if "navigat" not in str(error):
                    raise
                changes = 1  # it went on to another page meanwhile
            if not changes and not self.under_way:
                return
            turn = 0

    def turn(self, turn_ms, quiet_ms):
        """Let the clock run on in the page and in all that it holds; how often the page changes afterwards."""
        for frame in self.page.frames[1:]:
            # one that could not be opened has no clock, and would be waited for
            if self.is_ours(frame.url) or frame.url == "about:srcdoc":
                with contextlib.suppress(Error):
                    frame.evaluate(TURN, [turn_ms, 0])
        return self.page.evaluate(TURN, [turn_ms, quiet_ms])

    def picture(self):
        height = self.page.evaluate("Math.max(innerHeight, document.documentElement.scrollHeight)")
        width = self.page.viewport_size["width"]
        clip = {"x": 0, "y": 0, "width": width, "height": min(int(height), MAX_PICTURE_PX)}
        return self.page.screenshot(timeout=PICTURE_MS, full_page=True, clip=clip, animations="disabled", caret="hide")

    def find(self, target):
        page = self.page
        if target.get("role"):
            name = target.get("name")
            found = page.get_by_role(target["role"], name=name) if name else page.get_by_role(target["role"])
        elif target.get("label"):
            found = page.get_by_label(target["label"])
        elif target.get("text"):
            found = page.get_by_text(target["text"], exact=True)
        else:
            found = page.locator(target["css"])
        within = target.get("within")
        return page.locator(within).locator(found) if within else found

    def one(self, target):
        return self.find(target).nth((target.get("nth") or 1) - 1)

    def shown(self, target):
        """What an action needs to see; asked, not waited for, so that neither a busy host nor a bad page costs time."""
        element = self.one(target)
        if not element.is_visible():
            self.page.wait_for_timeout(LATE_MS)
            if not element.is_visible():
                raise Error("it is not visible" if element.count() else "it is not there")
        return element

    def act(self, step, found):
        """Carry out one step; false where it cannot be."""
        self.place["step"] += 1
        try:
            self.do(step)
            self.settle()
        except Error as error:
            found["seen"].append({"step": self.place["step"], "failed": words(error)})
            return False
        return True

    def do(self, step):
        does = step["do"]
        if does == "click":
            self.shown(step["on"]).click()
        elif does == "type":
            self.shown(step["into"]).fill(step["text"])
        elif does == "choose":
            self.shown(step["of"]).select_option(label=step["option"])
        elif does == "press":
            if step.get("at"):
                self.one(step["at"]).focus()
            self.page.keyboard.press(step["key"])
        elif does == "drag":
            self.shown(step["what"]).drag_to(self.shown(step["to"]))
        elif does == "wait":
            self.turn(int(step["seconds"] * 1000), 0)
        else:
            raise ValueError(f"step={does!r}: none of the harness's")

    def read(self, ahead, seen):
        """Read what the next steps expect, as many in one call as can be; false where something is not there."""
        groups = []
        for step in itertools.takewhile(lambda one: one["do"] == "expect", ahead):
            target = {name: value for name, value in step["of"].items() if name != "nth"}
            last = groups[-1][1][-1] if groups else None
            if last and target == groups[-1][0] and is_together(step, last):
                groups[-1][1].append(step)
            elif not groups or (is_plain(step, target) and is_plain(groups[0][1][0], groups[0][0])):
                groups.append((target, [step]))
            else:
                break
        first = self.place["step"] + 1
        self.place["step"] = first  # where it gives no sign any more it is at the first of them
        try:
            values = [value for group in self.values(groups) for value in group]
        except Error as error:
            values = [{"missing": words(error)}]
        for step, value in enumerate(values, first):
            self.place["step"] = step
            if "missing" in value:
                seen.append({"step": step, "failed": value["missing"] or "it is not there"})
                return False
            seen.append({"step": step, "value": value["value"] if "picture" in value else cut(value["value"])})
        return True

    def values(self, groups):
        asked = [
            (target, [[step["what"], (step["of"].get("nth") or 1) - 1, step.get("property")] for step in steps])
            for target, steps in groups
        ]
        target, one = asked[0]
        if one[0][0] == "picture":
            element = self.find(target).nth(one[0][1])
            if not element.count():
                return [[{"missing": ""}]]
            taken = element.screenshot(timeout=PICTURE_MS, animations="disabled")
            return [[{"picture": True, "value": base64.b64encode(taken).decode()}] * len(one)]
        many = None
        if is_plain(groups[0][1][0], target):
            many = self.page.evaluate(READ_MANY, [[[of["css"], what] for of, what in asked], MAX_LIST])
        if many is None:
            many = [self.find(of).evaluate_all(READ, [what, MAX_LIST]) for of, what in asked]
        return many

    def inventory(self):
        return self.page.evaluate(INVENTORY, self.order["most_listed"])

    def reached(self, inventory):
        """Which of the listed controls the tabulator key comes to, by their places in the list."""
        self.page.evaluate("document.activeElement && document.activeElement.blur()")
        reached = set()
        for _ in range(len(inventory["controls"]) + 8):
            self.page.keyboard.press("Tab")
            reached.add(self.page.evaluate(FOCUSED))
        return sorted(reached - {-1})


def is_together(step, last):
    """Whether two quantities of elements found in the same way are read at once; one picture shows several colours."""
    pictures = [one["what"] == "picture" for one in (step, last)]
    return not any(pictures) or (all(pictures) and step["of"] == last["of"])


def is_plain(step, target):
    """Whether the browser itself finds a target, without the driver's help."""
    return step["what"] != "picture" and bool(target.get("css")) and not target.get("within")


def cut(value):
    """What a page made is bounded before it goes out."""
    if isinstance(value, list):
        return [cut(one) for one in value]
    return value[:MAX_TEXT] if isinstance(value, str) else value


def words(error):
    """What went wrong, without the driver's own log."""
    return str(error).split("Call log:")[0].strip().split("\n")[0][:400]


main()
