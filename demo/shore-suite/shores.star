"""The list of shores."""

load("lib/steps.star", "fill")

def test_list_shows_all_shores(phone):
    """Every shore is on the first screen, or some swipes away."""
    phone.launch()
    phone.find("#shore_gull-ledge")
    phone.step("the list of shores")
    phone.scroll_to("#shore_sandpiper-spit")
    check.contains(phone.read("#shore_sandpiper-spit"), "Sandpiper Spit")

def test_search_narrows_the_list(phone, row):
    """Typing a part of a name leaves the shores that have it."""
    phone.launch()
    fill(phone, "#search", row["typed"])
    phone.wait_until(lambda: len(phone.all("group[id^=shore_]")) == 1, "one shore left")
    phone.step("searched")
    check.contains(phone.read("#shore_" + row["shore"]), row["title"])
    phone.press("enter")
    phone.clear("#search")
    phone.hide_keyboard()
    phone.find("#shore_gull-ledge")

case(test_search_narrows_the_list, rows = "data/searches.csv")

def test_a_long_press_pins_a_shore(phone):
    """A pinned shore says so."""
    phone.launch()
    phone.long_press("#shore_gull-ledge")
    mark = "Gemerkt" if phone.facts["language"] == "de" else "Pinned"
    phone.wait_for("#shore_gull-ledge_detail", text = mark)
    phone.step("pinned")

def test_started_with_a_shore(phone):
    """Started with the name of a shore, the app opens it."""
    phone.launch(args = {"shore": "old-slip"})
    phone.find("#tide_0")
    check.equal(phone.read("#title"), "Old Slip")

case(test_list_shows_all_shores, tags = ["smoke"])
