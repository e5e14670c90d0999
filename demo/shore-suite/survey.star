"""Counting in a quadrat, and sending it in."""

def open_survey(phone):
    phone.launch()
    phone.tap("#shore_gull-ledge")
    phone.tap("#start")

def fill(phone, field, text):
    phone.type(field, text)
    phone.hide_keyboard()

def test_total_of_decimals(phone):
    """2.5 and 4 make 6.5, in whatever way the language writes it."""
    mark = "," if phone.facts["language"] == "de" else "."
    open_survey(phone)
    fill(phone, "#wrack", "2" + mark + "5")
    fill(phone, "#kelp", "4")
    phone.step("cover entered")
    shown = phone.read("#total").split(": ")[1].replace(",", ".")
    check.equal(shown, "6.5 %", "the total cover")

def test_send_a_survey(phone):
    """A survey goes from the first count to the receipt."""
    open_survey(phone)
    fill(phone, "#barnacle", "31")
    fill(phone, "#note", "calm sea")
    phone.tap("#review")
    check.equal(phone.read("#r_shore_detail"), "Gull Ledge", "the shore on the review")
    phone.step("review")
    phone.tap("#send")
    check.contains(phone.read("#receipt"), "KL-")
    phone.step("sent")

def test_draft_survives_going_back(phone):
    """What was entered is still there after a look at the tides."""
    open_survey(phone)
    fill(phone, "#note", "two crabs")
    phone.back()
    phone.find("#show_chart")
    phone.tap("#start")
    check.equal(phone.read("#note"), "two crabs", "the note")
