"""Runs inside the isolation: opens the answer's page in a browser, carries out steps, tells what is seen.

What is expected of it never comes in here: targets and quantities go in, what was found goes out.
"""

import base64
import json
import mimetypes
import os
import signal
import sys

sys.path += filter(None, os.environ.pop("PACKAGES", "").split(":"))

from playwright.sync_api import Error, sync_playwright

ORIGIN = "http://localhost/"  # nothing listens: every request is answered from the files, or refused
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
# how often the document has changed; the page's own timers stand still meanwhile
CHANGES = """() => {
  if (window.__changes === undefined) {
    window.__changes = 0;
    new MutationObserver(seen => { window.__changes += seen.length; })
      .observe(document, {subtree: true, childList: true, attributes: true, characterData: true});
  }
  return window.__changes;
}"""
# whether a person can see an element: it has a size, lies where the window can be scrolled to, is cut off by nothing,
# is not transparent, and its words have another colour than their ground
SEEN = """element => {
  const box = element.getBoundingClientRect();
  let [left, top, right, bottom] = [box.left + scrollX, box.top + scrollY, box.right + scrollX, box.bottom + scrollY];
  if (right <= 0 || bottom <= 0) return false;
  let ground = null;
  const paint = text => (/^rgba?\\(([^)]*)\\)$/.exec(text) || [null, "0,0,0,0"])[1].split(/[ ,\\/]+/).map(Number);
  const shown = paint(getComputedStyle(element).color);
  let opacity = 1;
  for (let at = element; at; at = at.parentElement) {
    const style = getComputedStyle(at), own = at.getBoundingClientRect();
    opacity *= Number(style.opacity);
    if (/^inset\\((50|100)%/.test(style.clipPath)) return false;
    if (style.clip !== "auto" && /^rect\\([01]px,? [01]px,? [01]px,? [01]px/.test(style.clip)) return false;
    if (at !== element && at !== document.documentElement && at !== document.body && style.overflow !== "visible") {
      [left, top] = [Math.max(left, own.left + scrollX), Math.max(top, own.top + scrollY)];
      [right, bottom] = [Math.min(right, own.right + scrollX), Math.min(bottom, own.bottom + scrollY)];
    }
    if (at === element && style.overflow !== "visible" && (own.width < 2 || own.height < 2)) return false;
    const colour = paint(style.backgroundColor);
    if (ground === null && style.backgroundImage !== "none") ground = "image";
    if (ground === null && (colour[3] ?? 1) > 0.5) ground = colour;
  }
  if (right - left < 2 || bottom - top < 2 || opacity < 0.05) return false;
  if (!element.innerText || !element.innerText.trim() || ground === "image") return true;
  const own = [...element.childNodes].some(node => node.nodeType === 3 && node.textContent.trim());
  if (!own) return true;
  if ((shown[3] ?? 1) < 0.05 || parseFloat(getComputedStyle(element).fontSize) < 1) return false;
  ground = ground ?? [255, 255, 255];
  return shown.slice(0, 3).some((part, index) => Math.abs(part - ground[index]) > 8);
}"""
INVENTORY = open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "inventory.js"), encoding="utf-8").read()  # noqa: SIM115
# one call of the browser for each quantity: (elements, [quantity, place, property]) -> {value} or {missing}
READ = """(elements, [what, place, property, most]) => {
  const fold = text => String(text ?? "").split(/\\s+/).filter(Boolean).join(" ");
  const seen = IS_SEEN;
  const drawn = element => {
    const box = element.getBoundingClientRect();
    return box.width > 0 && box.height > 0 && getComputedStyle(element).visibility === "visible";
  };
  const all = {
    count: found => found.length,
    visible: found => found.slice(0, most).some(seen),
    texts: found => found.slice(0, most).map(element => fold(element.innerText)),
  };
  if (Object.hasOwn(all, what)) return {value: all[what](elements.filter(drawn))};
  const element = elements[place];
  if (!element) return {missing: true};
  const box = element.getBoundingClientRect();
  const one = {
    text: () => fold(element.innerText),
    before: () => {  // the words that style puts before the element's own
      const content = getComputedStyle(element, "::before").content;
      const parts = content.match(/"(?:[^"\\\\]|\\\\.)*"|attr\\([^)]*\\)/g) || [];
      return fold(parts.map(part => part.startsWith("attr(")
        ? element.getAttribute(part.slice(5, -1).trim()) || "" : JSON.parse(part)).join(""));
    },
    value: () => element.value ?? null,
    checked: () => element.checked ?? element.getAttribute("aria-checked") === "true",
    enabled: () => !element.matches(":disabled") && !element.closest("[aria-disabled=true]"),
    attribute: () => element.getAttribute(property),
    style: () => getComputedStyle(element).getPropertyValue(property),
    focused: () => element === document.activeElement,
    width: () => box.width,
    height: () => box.height,
    inside: () => box.left >= -1 && box.right <= innerWidth + 1,
  };
  return {value: one[what]()};
}""".replace("IS_SEEN", SEEN)
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
        context.clock.install(time=CLOCK_STARTS)
        context.clock.pause_at(CLOCK_STANDS)
        context.route("**/*", self.answer)
        context.on("page", self.popup)
        self.page = context.new_page()
        self.wire = context.new_cdp_session(self.page)
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
        self.answer_number = self.under_way = 0

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
        name = url.split("#")[0].split("?")[0].removeprefix(ORIGIN) or self.order["main"]
        path = f"{self.answer_number}/{name}"
        if not url.startswith(ORIGIN):
            self.leave(route.request.resource_type, url)
            route.abort()
        elif path in self.files:
            kind = mimetypes.guess_type(name)[0] or "application/octet-stream"
            charset = "; charset=utf-8" if kind.startswith("text/") or kind.endswith(("javascript", "json")) else ""
            route.fulfill(body=self.files[path], content_type=kind + charset)
        elif name == "favicon.ico":
            route.fulfill(status=204)  # the browser's own wish, not the page's
        else:
            route.fulfill(status=404, body="")

    def run(self, number, visit):
        self.leave_page()
        self.page.set_viewport_size(dict(zip(("width", "height"), visit["size"], strict=True)))
        self.begin()
        self.answer_number = visit["answer"]
        found = {"visit": number, "seen": [], "fault": None, "elements": 0}
        try:
            self.page.goto(ORIGIN + self.order["main"])
            self.settle()
            found["elements"] = self.page.evaluate(COUNT)
            if found["elements"] <= self.order["most_elements"]:
                self.look(visit, found)
        except Error as error:
            found["fault"] = words(error)
        failed = any("failed" in one for one in found["seen"])
        self.worn = self.worn or bool(failed or found["fault"] or self.errors or self.dialogs or self.popups)
        self.send(**found, errors=self.errors, outside=self.outside, dialogs=self.dialogs, popups=self.popups)

    def leave_page(self):
        """Away from the page before, with nothing of it left: in a window of its own where that is not sure."""
        if not self.worn:
            try:
                self.page.goto("about:blank")
                self.wire.send("Storage.clearDataForOrigin", {"origin": ORIGIN, "storageTypes": "all"})
                return
            except Error:
                pass
        self.page.context.close()
        self.open()

    def look(self, visit, found):
        if visit["picture"]:
            found["picture"] = base64.b64encode(self.picture()).decode()
        if visit["rules"]:
            found["inventory"] = self.inventory()
        for step in visit["steps"]:
            self.place["step"] += 1
            signal.alarm(self.order["stuck_s"])
            try:
                if step["do"] == "expect":
                    found["seen"].append({"step": self.place["step"], "value": self.read(step)})
                else:
                    self.act(step)
                    self.settle()
            except Error as error:
                found["seen"].append({"step": self.place["step"], "failed": words(error)})
                self.page.evaluate("0")  # a page that hangs answers nothing: the alarm ends it
                return
        if visit["rules"]:
            found["reached"] = self.reached(found["inventory"])

    def settle(self):
        """Let the page's clock run on a little, then wait in ours until it loads nothing and changes no more."""
        self.page.clock.run_for(TURN_MS)
        before = None
        for _ in range(MOST_LOOKS):
            now = self.page.evaluate(CHANGES)
            if now == before and not self.under_way:
                return
            before = None if self.under_way else now
            self.page.wait_for_timeout(QUIET_MS)

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

    def act(self, step):
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
            self.worn = True  # its clock cannot be turned back
            self.page.clock.run_for(int(step["seconds"] * 1000))
        else:
            raise ValueError(f"step={does!r}: none of the harness's")

    def read(self, step):
        what, target = step["what"], step["of"]
        place = (target.get("nth") or 1) - 1
        if what == "picture":
            element = self.find(target).nth(place)
            if not element.count():
                raise Error("it is not there")
            return base64.b64encode(element.screenshot(timeout=PICTURE_MS, animations="disabled")).decode()
        seen = self.find(target).evaluate_all(READ, [what, place, step.get("property"), MAX_LIST])
        if "missing" in seen:
            raise Error("it is not there")
        return cut(seen["value"])

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


def cut(value):
    """What a page made is bounded before it goes out."""
    if isinstance(value, list):
        return [cut(one) for one in value]
    return value[:MAX_TEXT] if isinstance(value, str) else value


def words(error):
    """What went wrong, without the driver's own log."""
    return str(error).split("Call log:")[0].strip().split("\n")[0][:400]


main()
