"""Today's tides of a shore."""

load("lib/steps.star", "open_shore")

def test_tide_table(phone):
    """The table has two high and two low waters."""
    open_shore(phone)
    phone.step("tide table")
    check.contains(phone.read("#tide_0_detail").replace(",", "."), "4.8", "the first high water, in metres", go_on = True)
    check.contains(phone.read("#tide_1_detail").replace(",", "."), "0.6", "the first low water, in metres", go_on = True)
    phone.scroll_to("#tide_3")

case(test_tide_table, tags = ["smoke"])

def test_tide_chart(phone):
    """The chart can be shown in place of the table."""
    open_shore(phone)
    phone.tap(phone.scroll_to("#show_chart"))
    phone.find("#tide_chart")
    phone.step("tide chart")
    phone.tap("#show_table")
    phone.find("#tide_0")
