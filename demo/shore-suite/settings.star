"""Settings."""

def test_heights_in_feet(phone):
    """Switching to feet changes the tide table."""
    phone.launch()
    if not phone.sees("#settings"):
        phone.find("#shore_gull-ledge")
        phone.swipe("up")
    phone.tap("#settings")
    phone.tap("#feet")
    check.that(phone.find("#feet[checked]").checked, "the switch is on")
    phone.step("feet chosen")
    phone.back()
    phone.tap("#shore_gull-ledge")
    check.contains(phone.read("#tide_0_detail"), "ft", "heights")
