"""The page of tides, in the browser of a phone."""

def before_case(phone):
    phone.launch()
    phone.find("#height_0")

def test_tides_of_a_shore(phone):
    """The tides of a shore stand there with their heights."""
    phone.launch(args = {"shore": "tern-rocks"})
    phone.wait_for("#height_0", text = "5.6 m")
    check.equal(len(phone.all("td[id^=height_], text[id^=height_]")), 4, "tides of the day")
    phone.step("tides")

def test_heights_in_feet(phone):
    """Heights change to feet at once."""
    phone.tap("#feet")
    phone.wait_for("#height_1", text = "2.0 ft")
    phone.step("feet")

def test_be_reminded(phone):
    """Who gives a name is reminded of low water."""
    phone.type("#name", "Ada")
    phone.step("name entered")
    phone.tap("#remind")
    check.equal(phone.read("#said"), "We remind Ada of low water at 09:23.")

case(test_tides_of_a_shore, tags = ["smoke"])
