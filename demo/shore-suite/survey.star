"""Counting in a quadrat, and sending it in."""

load("lib/steps.star", "fill", "in_language", "open_survey")

def before_case(phone):
    open_survey(phone)

def test_total_of_decimals(phone, row):
    """The covers are added up, in whatever way the language writes them."""
    fill(phone, "#wrack", in_language(phone, row["wrack"]))
    fill(phone, "#kelp", in_language(phone, row["kelp"]))
    phone.step("cover entered")
    shown = phone.read("#total").split(": ")[1].replace(",", ".")
    check.equal(shown, row["total"], "the total cover")

case(test_total_of_decimals, rows = "data/covers.json")

def test_send_a_survey(phone):
    """A survey goes from the first count to the receipt."""
    fill(phone, "#barnacle", "31")
    fill(phone, "#note", "calm sea")
    phone.tap(phone.scroll_to("#review"))
    check.equal(phone.read("#r_shore_detail"), "Gull Ledge", "the shore on the review")
    phone.step("review")
    phone.tap("#send")
    check.contains(phone.read("#receipt"), "KL-")
    phone.step("sent")

case(test_send_a_survey, tags = ["smoke", "network"])

def test_draft_survives_going_back(phone):
    """What was entered is still there after a look at the tides."""
    fill(phone, "#wrack", "12")
    phone.back()
    phone.find("#tide_0")
    phone.tap("#start")
    check.equal(phone.read("#wrack"), "12", "the cover of wrack")

def test_draft_survives_the_background(phone):
    """What was entered is still there after a call came in between."""
    fill(phone, "#wrack", "12")
    phone.background(1)
    check.equal(phone.read("#wrack"), "12", "the cover of wrack")

def test_draft_survives_turning(phone):
    """What was entered is still there after the device was turned, and turned back."""
    fill(phone, "#wrack", "12")
    phone.rotate("landscape")
    phone.step("landscape")
    phone.rotate("portrait")
    phone.find("#wrack")
    check.equal(phone.read("#wrack"), "12", "the cover of wrack")
