"""Settings."""

def open_settings(phone):
    phone.launch()
    phone.find("#shore_gull-ledge")
    if not phone.sees("#settings"):
        phone.swipe("up")
    phone.tap("#settings")

def test_heights_in_feet(phone):
    """Switching to feet changes the tide table."""
    open_settings(phone)
    phone.tap("#feet")
    check.that(phone.find("#feet[checked]").checked, "the switch is on")
    phone.step("feet chosen")
    phone.back()
    phone.tap("#shore_gull-ledge")
    check.contains(phone.read("#tide_0_detail"), "ft", "heights")

def test_about(phone):
    """The dialog says which version this is, and goes away again."""
    open_settings(phone)
    phone.tap("#about")
    check.equal(phone.read("#dialog_title"), "Kelpline 1.8.0")
    check.that(not phone.sees("#feet"), "nothing under the dialog can be reached")
    phone.step("about")
    phone.tap("#close")
    phone.wait_gone("#dialog_title")
    phone.find("#feet")
