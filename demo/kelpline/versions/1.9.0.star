# What is Kelpline 1.9.0's own.

VERSION = "1.9.0"

def TideChart_onDraw():
    platform_call("android.graphics.Canvas", "drawRoundRect(FFFFFFLandroid/graphics/Paint;)V", since = 21)

def arranged(fields):
    # New: on tablets the fields lie side by side.
    return [grid(min_cell = 300, body = fields)] if smallest_dp() >= 600 else fields

def rotated():
    # Its fault: the new arrangement is made from nothing when a tablet is turned, the draft with it.
    if smallest_dp() >= 600:
        new_draft()

