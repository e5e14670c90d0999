# The one screen. Its layout is found by name, so that no number of a resource stands here.
.class public Ltessellant/check/Screen;
.super Landroid/app/Activity;

.method public constructor <init>()V
    .registers 1
    invoke-direct {p0}, Landroid/app/Activity;-><init>()V
    return-void
.end method

.method protected onCreate(Landroid/os/Bundle;)V
    .registers 7
    invoke-super {p0, p1}, Landroid/app/Activity;->onCreate(Landroid/os/Bundle;)V
    invoke-virtual {p0}, Ltessellant/check/Screen;->getResources()Landroid/content/res/Resources;
    move-result-object v0
    const-string v1, "main"
    const-string v2, "layout"
    invoke-virtual {p0}, Ltessellant/check/Screen;->getPackageName()Ljava/lang/String;
    move-result-object v3
    invoke-virtual {v0, v1, v2, v3}, Landroid/content/res/Resources;->getIdentifier(Ljava/lang/String;Ljava/lang/String;Ljava/lang/String;)I
    move-result v0
    invoke-virtual {p0, v0}, Ltessellant/check/Screen;->setContentView(I)V
    # With the extra "ask" it asks for that permission, on systems that ask.
    sget v0, Landroid/os/Build$VERSION;->SDK_INT:I
    const/16 v1, 0x17
    if-lt v0, v1, :done
    invoke-virtual {p0}, Ltessellant/check/Screen;->getIntent()Landroid/content/Intent;
    move-result-object v0
    const-string v1, "ask"
    invoke-virtual {v0, v1}, Landroid/content/Intent;->getStringExtra(Ljava/lang/String;)Ljava/lang/String;
    move-result-object v0
    if-eqz v0, :done
    const/4 v1, 0x1
    new-array v1, v1, [Ljava/lang/String;
    const/4 v2, 0x0
    aput-object v0, v1, v2
    invoke-virtual {p0, v1, v2}, Ltessellant/check/Screen;->requestPermissions([Ljava/lang/String;I)V
    :done
    return-void
.end method
