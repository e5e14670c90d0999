# What is Kelpline 1.8.0's own.

VERSION = "1.8.0"

def TideChart_onDraw():
    # Its fault: a call that came with Android 10, made without a look at the version.
    platform_call("android.graphics.Canvas", "drawDoubleRoundRect(Landroid/graphics/RectF;FFLandroid/graphics/RectF;FFLandroid/graphics/Paint;)V", since = 29)

def arranged(fields):
    return fields

def extras():
    return []

