"""The report as people use it: in a browser, by mouse and by keyboard, on paper, and with a whole platform in it."""

from __future__ import annotations

import base64
import itertools
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys
from selenium.webdriver.support.ui import Select

from ask_above import Community
from ask_above.show.report import report
from standard import Size, charter, register

pytestmark = pytest.mark.slow

if TYPE_CHECKING:
    from selenium.webdriver.remote.webelement import WebElement

Browser = webdriver.Chrome


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory) -> str:
    file = tmp_path_factory.mktemp("page") / "report.html"
    file.write_text(report(Community.demo(), "html"), "utf-8")
    return file.as_uri()


@pytest.fixture
def site(browser: Browser, page: str) -> Browser:
    browser.get(page)
    return browser


def cell(browser: Browser, capability: str, rank: str) -> WebElement:
    row = f"//table[@id='cells']//tr[th[starts-with(., '{capability}')]]"
    return browser.find_element(By.XPATH, f"{row}/td[@data-rank='{rank}']/button")


def why(browser: Browser, which: str = "why") -> str:
    return browser.find_element(By.ID, which).text


def choose(browser: Browser, which: str, text: str) -> None:
    select = Select(browser.find_element(By.ID, which))
    names = [(each.get_attribute("textContent") or "").strip() for each in select.options]
    select.select_by_index(names.index(text))


def shown(browser: Browser, what: str) -> list[str]:
    return [each.text for each in browser.find_elements(By.CSS_SELECTOR, what) if each.is_displayed()]


def press(browser: Browser, *keys: str) -> None:
    for key in keys:
        browser.switch_to.active_element.send_keys(key)


def test_a_cell_tells_where_it_comes_from(site: Browser) -> None:
    cell(site, "reading.post", "volunteer").click()
    assert why(site) == "Volunteer grants reading.post (charter.yaml line 148)."
    cell(site, "photo.upload", "warden").click()
    assert why(site).startswith("River warden grants photo.upload")


def test_the_grid_is_narrowed_by_words_heading_and_rank_together(site: Browser) -> None:
    box = site.find_element(By.ID, "filter")
    box.send_keys("Photo")
    assert len(shown(site, "#cells tr.row")) == 4
    assert shown(site, "#cells tr.heading") == ["Photos"]
    box.clear()
    choose(site, "heading", "Machinery")
    assert [text.split()[0] for text in shown(site, "#cells tr.row")] == ["job.schedule", "site.restart"]
    choose(site, "rank", "Board host")
    assert shown(site, "#cells thead th") == ["Capability", "Board host"]
    choose(site, "heading", "all")
    choose(site, "rank", "all")
    assert len(shown(site, "#cells tr.row")) == 41


def test_at_a_place_the_grid_shows_what_the_place_changes_and_why(site: Browser) -> None:
    c = Community.demo()
    place = Select(site.find_element(By.ID, "place"))
    names = [(each.get_attribute("textContent") or "").strip() for each in place.options]
    assert names[:3] == ["without places", "the whole site", "Common room"]
    place.select_by_index(names.index("Lower gauges"))
    gauge = cell(site, "reading.post", "volunteer")
    assert gauge.text == "−"
    gauge.click()
    assert why(site) == "The place Lower gauges denies reading.post to Volunteer (charter.yaml line 218)."
    assert "does not apply in a place of this kind" in " ".join(shown(site, ".legend li"))
    # every place, every cell: yes or no as the community answers
    for key, name in zip(c.charter.places, names[1:], strict=True):
        place.select_by_index(names.index(name))
        marks = site.execute_script(_MARKS)
        assert [[mark in "●○+" for mark in row] for row in marks] == c.grid(at=key).to_numpy().tolist(), key
    place.select_by_index(0)
    assert cell(site, "reading.post", "volunteer").text == "●"


_MARKS = """
const rows = [...document.querySelectorAll("#cells tr.row")];
return rows.map(row => [...row.querySelectorAll("button")].map(button => button.textContent));
"""


def test_everything_can_be_reached_with_the_keyboard_alone(site: Browser) -> None:
    site.find_element(By.ID, "filter").click()
    press(site, *[Keys.TAB] * 4)
    # one stop for the whole grid, and the arrows from there
    assert site.switch_to.active_element.tag_name == "button"
    press(site, Keys.ARROW_DOWN)
    assert why(site).startswith("Steward is unbounded")
    press(site, Keys.ARROW_RIGHT, Keys.END)
    assert why(site) == "Passer-by does not grant place.pin."
    press(site, Keys.HOME, Keys.ARROW_LEFT, Keys.ARROW_UP)
    # each table of who stands above whom is one stop too
    site.find_element(By.ID, "find-person").click()
    press(site, *[Keys.SHIFT + Keys.TAB] * 3)
    assert site.switch_to.active_element.find_element(By.XPATH, "./ancestor::table").get_attribute("id") == "moderate"
    press(site, Keys.ARROW_DOWN, Keys.ARROW_RIGHT, Keys.ARROW_RIGHT)
    assert why(site, "why-moderate").startswith("River warden, Journal editor: may")
    # narrowed, the one stop is a cell that is there
    choose(site, "heading", "Machinery")
    site.find_element(By.ID, "place").click()
    press(site, Keys.ESCAPE, Keys.TAB)
    press(site, Keys.ARROW_RIGHT)
    assert why(site) == "River warden grants job.schedule (charter.yaml line 96)."


def test_members_are_found_by_name_rank_and_group(site: Browser) -> None:
    box = site.find_element(By.ID, "find-person")
    box.send_keys("steward")
    assert [text.split()[0] for text in shown(site, "#persons tbody tr")] == ["Ines", "Olaf"]


def test_screen_readers_find_headings_names_and_tables(site: Browser) -> None:
    levels = [int(each.tag_name[1]) for each in site.find_elements(By.CSS_SELECTOR, "h1, h2, h3")]
    assert levels[0] == 1
    assert levels.count(1) == 1
    assert all(after - before <= 1 for before, after in itertools.pairwise(levels))
    assert not site.find_elements(By.XPATH, "//table[not(thead//th[@scope='col'])]")
    for each in site.find_elements(By.CSS_SELECTOR, "input, select"):
        assert each.accessible_name or not each.is_displayed()
    assert cell(site, "place.pin", "host").accessible_name.startswith("Board host grants")


@pytest.mark.parametrize("ground", ["light", "dark"])
def test_all_text_can_be_read_on_light_and_on_dark_ground(site: Browser, ground: str) -> None:
    features = [{"name": "prefers-color-scheme", "value": ground}]
    site.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})
    poor = site.execute_script(POOR_CONTRAST)
    site.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})
    assert poor == []


POOR_CONTRAST = """
const part = c => { c /= 255; return c <= 0.03928 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4; };
const light = ([r, g, b]) => 0.2126 * part(r) + 0.7152 * part(g) + 0.0722 * part(b);
const numbers = color => color.match(/[\\d.]+/g).map(Number);
const ground = each => {
  for (let e = each; e; e = e.parentElement) {
    const c = numbers(getComputedStyle(e).backgroundColor);
    if (c.length < 4 || c[3] > 0) return c;
  }
  return [255, 255, 255];
};
const poor = new Set();
for (const each of document.querySelectorAll("body *")) {
  if (![...each.childNodes].some(n => n.nodeType === 3 && n.data.trim()) || each.closest("script, .aloud")) continue;
  const [one, two] = [light(numbers(getComputedStyle(each).color)), light(ground(each))].sort((a, b) => b - a);
  if ((one + 0.05) / (two + 0.05) < 4.5) poor.add(each.tagName + "." + each.className);
}
return [...poor];
"""


def test_on_a_phone_nothing_but_tables_is_wider_than_the_screen(site: Browser) -> None:
    site.execute_cdp_cmd(
        "Emulation.setDeviceMetricsOverride", {"width": 390, "height": 800, "deviceScaleFactor": 2, "mobile": True}
    )
    wide = site.execute_script("return document.documentElement.scrollWidth")
    site.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
    assert wide <= 390


def test_it_prints_all_of_it_without_the_tools(site: Browser, tmp_path: Path) -> None:
    paper = tmp_path / "report.pdf"
    paper.write_bytes(base64.b64decode(site.print_page()))
    assert paper.read_bytes().startswith(b"%PDF")
    assert paper.stat().st_size > 50_000
    site.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
    assert shown(site, ".tools, nav, .why, #ask, #asked") == []
    assert len(shown(site, "section")) == 13
    site.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})


def test_nothing_is_asked_of_the_network_and_nothing_goes_wrong(site: Browser) -> None:
    for kind in ("performance", "browser"):  # what other tests left
        site.get_log(kind)  # type: ignore[no-untyped-call]
    site.refresh()
    cell(site, "place.pin", "host").click()
    choose(site, "heading", "Photos")
    choose(site, "place", "the whole site")
    events = [json.loads(entry["message"])["message"] for entry in site.get_log("performance")]  # type: ignore[no-untyped-call]
    asked = [e["params"]["request"]["url"] for e in events if e["method"] == "Network.requestWillBeSent"]
    assert asked
    assert [url for url in asked if not url.startswith(("file:", "data:"))] == []
    assert [entry for entry in site.get_log("browser") if entry["level"] != "INFO"] == []  # type: ignore[no-untyped-call]


def test_a_script_in_a_name_is_a_name(browser: Browser, tmp_path: Path) -> None:
    evil = "</script><script>document.title='taken'</script><img src=x onerror=\"document.title='taken'\">"
    c = Community.demo()
    ranks = {key: rank._replace(title=evil) if key == "volunteer" else rank for key, rank in c.charter.ranks.items()}
    places = {k: p._replace(title=f"{evil} {k}") for k, p in c.charter.places.items()}
    c = c.after(charter=c.charter._replace(ranks=ranks, places=places))
    (tmp_path / "evil.html").write_text(report(c, "html"), "utf-8")
    browser.get((tmp_path / "evil.html").as_uri())
    assert browser.title == "Wren Valley River Watch: who may do what"
    assert evil in browser.find_element(By.ID, "rank-volunteer").text
    assert browser.execute_script("return document.images.length") == 0


def test_a_thousand_members_and_three_hundred_places_are_still_smooth(browser: Browser, tmp_path: Path) -> None:
    size = Size(ranks=30, capabilities=80, places=300, overrides=1500, members=1000, profiles=200)
    c = Community(charter(size), register(size))
    file = tmp_path / "large.html"
    file.write_text(report(c, "html"), "utf-8")
    browser.get(file.as_uri())
    assert len(browser.find_elements(By.CSS_SELECTOR, "#persons tbody tr")) == 1000
    taken: Any = browser.execute_script(_TIMES)
    # smooth is what a hand does not notice: measured against drawing the page from nothing, in the same run
    whole = taken.pop("whole")
    assert {what: taken for what, milliseconds in taken.items() if milliseconds > whole / 2} == {}, whole


_TIMES = """
const timed = act => {
  const start = performance.now();
  act();
  document.body.offsetHeight;
  return performance.now() - start;
};
const put = (id, value) => {
  const each = document.getElementById(id);
  each.value = value;
  for (const event of ["input", "change"]) each.dispatchEvent(new Event(event));
};
const found = {};
document.body.style.display = "none"; document.body.offsetHeight;
found.whole = timed(() => { document.body.style.display = ""; });
// the best of three, as the machine may be busy with something else
const best = (act, back) => Math.min(...[1, 2, 3].map(() => { const taken = timed(act); back(); return taken; }));
found.words = best(() => put("filter", "h1."), () => put("filter", ""));
found.rank = best(() => put("rank", "rank-3"), () => put("rank", ""));
found.place = best(() => put("place", document.getElementById("place").options[40].value), () => put("place", ""));
found.person = best(() => put("find-person", "m77"), () => put("find-person", ""));
found.cell = best(() => document.querySelector("#cells button").click(), () => {});
return found;
"""
