"""What a line of the Logbook means: what has happened, what Hawser does now, and what a trader may
do. By the line's code: what the record calls the event or command, or the code of what was told."""

from __future__ import annotations

from hawser.desk.models.topics.topic import Topic

FAULTS = "What happens when"

# What came in
EVENTS = {
    "Opened": "A session began: Hawser opened this account, with the settings of that moment.",
    "InstrumentsChanged": "The venue trades other instruments, or with another tick or step, than "
    "before. Levels and quantities of open trades are carried over where they fit; where they do "
    "not, an alarm says so.",
    "BarCompleted": "A bar of this length is complete. Trails, time exits and other rules that "
    "decide at a close have been looked at with it.",
    "InstrumentState": "The venue opened or closed this instrument for trading. While it is "
    "closed, nothing fills; stops rest on.",
    "VenueUp": "The line to the venue stands. Before entries open, Hawser compares all it knows "
    "with what the venue holds.",
    "VenueDown": "The line to the venue is lost. Stops that rest there go on protecting; nothing "
    "can be moved or entered until the line is back.",
    "OrderAccepted": "The venue has the order. A stop that was accepted protects from now on.",
    "OrderRejected": "The venue did not take the order. The line after it says what Hawser does. "
    "If it was a stop, Hawser tries again; if that takes too long, it closes the trade.",
    "OrderFilled": "The order was carried out at this price. The quantity that stops cover follows "
    "it at once.",
    "OrderCancelled": "The order rests no more. If it protected something, Hawser lays it anew.",
    "AmendAccepted": "The venue changed a resting order: this is where it rests now.",
    "AmendRejected": "The venue did not change the order: it rests where it was. Hawser tries "
    "again where the trade needs it.",
    "CancelRejected": "The venue did not take the order back, mostly because it has filled. "
    "Hawser asks what became of it.",
    "OrderStatus": "The venue answered what became of an order. Its answer counts, whatever "
    "Hawser had expected.",
    "Holdings": "The venue told all that it holds: positions and resting orders. Hawser settled "
    "each difference and told it in a line of its own.",
    "TimerFired": "A time that Hawser had set itself has come, to ask again or to look whether a "
    "deadline is met.",
    "CalendarChanged": "The news calendars were read anew.",
}

# What a person asked
ASKS = {
    "PlaceTrade": "You asked for a trade. The lines after it say whether it was placed, at what "
    "size, or why not.",
    "PlaceStraddle": "You asked for an entry on both sides of the market. The one that fills "
    "first cancels the other.",
    "MoveEntry": "You moved an entry that waits. Its size is worked out anew from there.",
    "LinkEntries": "You linked entries: the first that fills cancels the others.",
    "FormBasket": "You laid one stop and one target, in money, over several trades.",
    "DissolveBasket": "You took a basket off. Its trades stay, each with its own lines.",
    "MoveStop": "You moved the stop. The line after it says where it rests now, or why it does "
    "not.",
    "MoveTarget": "You moved a target.",
    "SetTarget": "You set a target, changed its share, or took it away.",
    "Reequip": "You put another plan on an open trade: it is tended by that from now on.",
    "HoldLines": "You chose who keeps stop and targets: Hawser behind a backstop, or the venue.",
    "Adopt": "You made a trade of a position that Hawser had not opened. Its stop is sent at once.",
    "CloseTrade": "You asked to close the trade, a part of it, or to take its entry back.",
    "CloseAll": "You asked to close several trades, or to take back all entries that wait.",
    "BreakEven": "You asked to move the stop to the entry.",
    "TurnAround": "You asked to close the trade and open the opposite one of the same plan.",
    "Halt": "Flatten & halt: everything that waits is cancelled, everything open is closed, and "
    "entries stay closed until you re-arm with a reason.",
    "Rearm": "You let entries pass again after a halt, with this reason.",
    "ChangeGuards": "You changed the policy. What is tighter holds at once.",
    "RearmGuard": "You let a kill switch begin to count again, with this reason.",
    "Drill": "You set a guard off on purpose, to see that it works.",
    "ChangeAccount": "You changed the account's settings. Sizes and limits go by them from now on.",
}

# What left for the venue
SENT = {
    "Submit entry": "The entry left for the venue. Its stop follows with the first fill.",
    "Submit rung": "A further entry of a ladder left for the venue. It adds to the same position.",
    "Submit stop": "A stop left for the venue. It protects once the venue has accepted it.",
    "Submit target": "A target left for the venue. When it fills, the stop is made smaller by as "
    "much.",
    "Submit loss": "An order that gives up a part of a losing trade left for the venue, as the "
    "rig says.",
    "Submit close": "A close at market left for the venue. It never fills more than the position.",
    "Amend": "A resting order is asked to take another level or quantity. Until the venue has "
    "said yes, it rests where it was.",
    "Cancel": "A resting order is taken back.",
    "Query": "An answer stayed out: Hawser asks what became of the order, and sends nothing twice.",
    "QueryAll": "Hawser asks the venue for all it holds, to compare. It does so at the start, "
    "after a lost line, and every ten seconds while something is open.",
}

# What Hawser decided
TRADES = {
    "entered": "The trade is open at this price. It is exposed until its stop rests at the venue.",
    "rung_entered": "A further entry of the ladder has filled: the average is this now, and the "
    "stop covers all of it.",
    "rung_given_up": "A further entry of the ladder was refused and is not tried again. What is "
    "open stays protected.",
    "left": "A part of the trade, or all of it, was closed at this price.",
    "protected": "Stops that rest at the venue cover all that is open.",
    "exposed": "A part of the position has no stop at the venue. Hawser lays one at once, and "
    "closes the trade where it cannot within the deadline of your policy.",
    "deadline": "The trade could not be covered in time. It is being closed at market.",
    "emergency_stop": "The planned stop was too near the market to rest. A farther one covers the "
    "trade while it is being closed.",
    "stop_stays": "Moving the stop would take too many orders at once. It stays where it rests, "
    "and protects there.",
    "stop_passed": "The market is beyond the stop already, so it could not rest. The trade is "
    "closed at market.",
    "stop_impossible": "The venue takes no stop so near the market. The trade is closed at market.",
    "close_fails": "The venue has refused the close several times. Hawser goes on trying, and the "
    "stop stays. Look at the venue yourself.",
    "nothing_to_close": "The venue says that there is nothing to close. Hawser compares both "
    "sides.",
    "left_bare": "A stop is gone of a position that Hawser had left as it rests. Nothing protects "
    "it: adopt it, or close it at the venue.",
    "late_fill": "An order filled after it had been given up. What it opened is closed or covered "
    "at once.",
    "overfilled": "More was closed than was open, so a position on the other side may be left. "
    "Hawser asks the venue and settles it.",
    "trade_ended": "The trade is over. The line gives its result in R and money, costs included, "
    "and what ended it.",
    "entry_void": "The entry is over and nothing was opened.",
    "anchored": "The entry filled at another price than planned. Its lines stand as your plan "
    "wants it then.",
    "level_adjusted": "The venue put the order elsewhere than asked. That is where it protects.",
    "moved_elsewhere": "Another hand moved this order. Where that protects better it is taken "
    "over, otherwise it is put back.",
    "moved_after_all": "A move that had been taken for lost was carried out.",
    "cancelled_by_venue": "The venue gave up an order by itself. If it protected something, "
    "Hawser lays it anew.",
    "move_refused": "The venue did not move the order. It rests where it was, and Hawser tries "
    "again where needed.",
    "request_lost": "The venue never got the order. It is sent again if the trade still needs it.",
    "venue_silent": "The venue does not say what became of an order. Hawser goes on asking and "
    "sends nothing twice.",
    "held_stop": "The price reached the stop that Hawser keeps: the trade is closed at market.",
    "held_waits": "A spread spike touched the held stop. Hawser waits as long as you said, and "
    "closes if it is still there.",
    "lines_held": "Hawser keeps stop and targets from now on; only the wider backstop rests at "
    "the venue.",
    "lines_rest": "Stop and targets rest at the venue from now on, and protect also when Hawser "
    "is closed.",
    "equipped": "The trade is tended by another plan from now on.",
    "entry_moved": "The entry that waits stands at another level, with a size made for it.",
    "rest_taken_back": "What was still waiting of the entry is taken back. What is open stays.",
    "linked": "The first of these entries that fills cancels the others.",
    "unlinked": "This entry waits alone now: nothing cancels it but you, its time, or its fill.",
    "oco_second": "Two linked entries filled before the first could cancel the second. The second "
    "is closed at once.",
    "follow_on": "The rig opens a follow-on trade after the one that ended.",
    "lapsed": "A follow-on or a turn is not made: more than a bar has passed since.",
    "rig_leaves": "A rule of the rig closes the trade.",
    "ladder_target": "The ladder's target stands at the average of all entries now.",
    "basket_formed": "One stop and one target, in money, lie over these trades from now on.",
    "basket_gone": "The basket is taken off. Its trades stay as they are.",
    "basket_reached": "The basket's trades together have reached its limit: all of them are "
    "closed.",
    "adopted": "A foreign position is a trade of Hawser's now, with a stop at once.",
    "halted": "Everything that waits is cancelled, everything open is being closed, and entries "
    "stay closed until you re-arm with a reason.",
    "rearmed": "Entries may pass again, for the reason that you wrote.",
    "account_changed": "The account's settings are others from now on.",
    "account_file": "The account's file was changed outside Hawser: it counts, and replaces what "
    "was edited here.",
    "account_loosened": "A looser limit of the account holds from now on, as was asked for in the "
    "period before.",
    "transferred": "Money was paid in or out, or the balance was reset. No result, no guard and "
    "no day counts it as won or lost.",
}

GUARDS = {
    "guard_tripped": "A kill switch has reached its limit. It did what you chose, and entries stay "
    "closed until its period ends or you re-arm it.",
    "guard_closed": "A guard has closed entries. It never holds up an exit.",
    "guard_open": "The guard lets entries pass again.",
    "guard_rearmed": "The kill switch begins to count again, with your reason.",
    "guard_loosened": "A looser limit holds from now on, as was asked for in the period before.",
    "guards_changed": "The policy is another from now on.",
    "drill": "A guard was set off on purpose. Nothing real had happened.",
    "calendar": "A news calendar is missing, cannot be read, or ends too soon; or it is whole "
    "again. The news guard does what its 'missing' says.",
}

# Where both sides are compared, and where something is wrong
CHECKS = {
    "link_down": "The line to the venue is lost. Stops there go on protecting. Hawser tries to "
    "connect again by itself.",
    "reconciled": "Hawser and the venue agree on every position and order.",
    "check_differs": "The venue holds something else than Hawser knew. The lines after this one "
    "say what, and how it was settled.",
    "quantity_differs": "The venue's quantity counts. Stops are made to cover what is really open.",
    "order_not_ours": "An order at the venue that Hawser never sent. It is left alone: perhaps "
    "somebody wants it there.",
    "order_left_over": "An order of a request that has ended still rests. It is taken back.",
    "stray": "An order of Hawser's that no record knows is taken back, so that it cannot open "
    "anything.",
    "stray_stays": "An order that should be gone still rests and could not be taken back. Hawser "
    "tries again at each check.",
    "position_unexplained": "A position that Hawser did not open. Nothing of Hawser's protects "
    "it: adopt it on the Helm, or close it at the venue.",
    "position_changed": "A foreign position has another quantity now.",
    "position_gone": "A foreign position is closed.",
    "position_unseen": "A position lies in an instrument that cannot be seen here. Look after it "
    "at the venue.",
    "no_bars": "The instrument tells no bars any more: rules that decide at a close rest. Stops "
    "at the venue protect on.",
    "no_session_end": "The instrument's hours are not known any more, so a time exit at their end "
    "will not come.",
    "instrument_changed": "The instrument has another tick, step or worth than before. Look at "
    "its trades: their money is another too.",
    "outsized": "The position is larger than one order may be now. It is covered in parts.",
    "carried_over": "Levels and quantities fit the instrument's new grid exactly.",
    "set_aside": "The venue told something that cannot be, such as an ask below the bid. It was "
    "not used.",
    "suspect": "After this start Hawser cannot trust the end of its record. It sends nothing "
    "before the venue has told what it holds.",
    "record_older": "The record is an older copy: Hawser does not know what came after it. Look at "
    "all positions, then re-arm.",
    "record_down": "The record cannot be written: the disk is full, does not answer, or another "
    "program holds it. Open trades stay protected and can be closed; entries are closed.",
    "record_up": "The record is written again, with all that had waited.",
}

# What was refused
REFUSED = {
    "stop_refused": "The stop may not stand there. It is where it was.",
    "never_widen": "Your policy never lets a stop go farther away. It is where it was.",
    "widen_unconfirmed": "A wider stop risks more than was planned. It must be confirmed first.",
    "target_refused": "The target cannot be as asked. Nothing was changed.",
    "share_refused": "The share cannot be as asked. Nothing was changed.",
    "leaving": "The trade is being closed already.",
    "held_already": "That is how it is already. Nothing was changed.",
    "not_pending": "The entry has filled or is gone. What is open stays as it is.",
    "nothing_meant": "There is nothing open that this could be done to.",
    "not_open": "Nothing is open of the trade yet.",
    "turn_refused": "The trade cannot be turned around as it is. It stays.",
    "not_halted": "There is no halt to re-arm.",
    "no_trade": "The trade is over. Nothing was done.",
    "no_reason": "Re-arming needs a reason in words. Entries stay closed.",
    "no_instrument": "The venue does not trade this instrument. Nothing was sent.",
    "asked_twice": "The same request came twice. It was carried out once.",
    "not_positive": "A level at zero or below cannot be. Nothing was sent.",
    "no_position": "There is no such foreign position any more.",
    "other_position": "The plan is for another instrument or side. The position stays as it is.",
    "no_basket": "There is no such basket any more.",
    "not_rearmed": "The kill switch cannot be re-armed now: its limit is still broken, or its "
    "pause is not over.",
    "no_guard": "There is no guard of that name now.",
    # of a size
    "bad_request": "The plan does not go together as it is. Nothing was sent.",
    "below_min": "The risk you allow is too small for the least quantity that may be traded. "
    "Allow more, or bring the stop nearer.",
    "costs_exceed_risk": "Commission and slippage alone would take more than the risk you allow.",
    "max_positions": "As many trades are open as your policy allows.",
    "max_notional_percent": "The trade would be worth more than your policy allows.",
    "max_margin_percent": "The trade would need more margin than your policy allows.",
    "max_heat_percent": "All stops together would lose more than your policy allows.",
    "max_currency_heat_percent": "One currency would be exposed more than your policy allows.",
    "qty_max": "The quantity is more than the instrument allows in one order.",
    "free_margin": "The account has too little free margin for the trade.",
    "day_loss_room": "The trade could lose more than a guard's day still allows.",
    "entry_too_near": "The venue takes no entry so near the market.",
    "entry_wrong_side": "The entry's level lies on the wrong side of the market for its kind.",
    "indicator_not_ready": "An ATR or another line needs more completed bars before it has a "
    "value.",
    "ladder": "A ladder is sized before its first entry, so it cannot be put on what is open.",
    "stop_in_ladder": "A ladder's stop stays beyond its last rung.",
    "no_equity": "The account has no equity that a size could be taken from.",
    "no_timeframe": "The rig decides on bars that cannot be made of this instrument's.",
    "qty_off_step": "The quantity is no whole number of the instrument's steps.",
    "rate_missing": "A conversion rate is not known, so the risk cannot be told in your money. "
    "Write the line that is shown into the account's file.",
    "rate_stale": "The conversion rate is older than your policy allows.",
    "slippage": "The entry would fill worse than the bound you gave.",
    "stop_not_positive": "The stop would lie at zero or below.",
    "stop_too_near": "The stop would lie nearer than the venue, or your policy, allows.",
    "stop_wrong_side": "The stop lies on the side where the trade wins.",
    "target_wrong_side": "The target lies on the side where the trade loses.",
    "too_large": "The position would need more than 50 stops. Close a part of it first.",
    # entries closed
    "spread": "A spread guard was closed: the spread was too wide for this plan. It opens by "
    "itself.",
    "news": "A news guard was closed around an event. It opens when its time is over.",
    "session": "A session guard was closed: the time is outside the hours for entries.",
    "volatility": "A volatility guard was closed: the market is too calm or too wild.",
    "regime": "A regime guard was closed: the market is on the other side of its average.",
    "trade_count": "As many entries were made in this period as the guard allows.",
    "cool_down": "A guard waits for a while after a loss.",
    "latched": "A kill switch is latched. It opens when its period ends, or when you re-arm it.",
    "no_calendar": "A news calendar is missing or ends too soon, so entries stay closed.",
    "unread": "The news calendars are being read; it takes a moment after a start.",
    "reconciling": "Hawser was comparing with the venue. Entries open when both agree.",
    "record_behind": "A position is not in the record. Adopt it, or close it at the venue.",
    "market_closed": "The instrument is outside its trading hours.",
    "feed_silent": "The instrument has had no quote for too long.",
    "no_quote": "The instrument has no quote yet.",
    "no_figures": "The venue has not told the account's figures yet.",
    "money_unknown": "What something open is worth is not known: a conversion rate is missing.",
    "not_tended": "Nobody tends the account's trades now; the window says why.",
}

MEANINGS = {**EVENTS, **ASKS, **SENT, **TRADES, **GUARDS, **CHECKS, **REFUSED}
CHAPTERS = {
    **dict.fromkeys(CHECKS, FAULTS),
    **dict.fromkeys(GUARDS, "Guards"),
    **dict.fromkeys(
        ("VenueDown", "VenueUp", "Holdings", "OrderStatus", "Query", "QueryAll"), FAULTS
    ),
    **dict.fromkeys(
        ("held_stop", "held_waits", "lines_held", "lines_rest", "HoldLines"), "Held lines"
    ),
    **dict.fromkeys(("rung_entered", "rung_given_up", "Submit rung"), "A ladder"),
    **dict.fromkeys(("PlaceTrade", "PlaceStraddle", "MoveEntry", "Submit entry"), "How to enter"),
    **dict.fromkeys(("linked", "unlinked", "oco_second", "LinkEntries"), "One cancels the others"),
    **dict.fromkeys(("spread", "news", "session", "volatility", "regime"), "Guards"),
    **dict.fromkeys(("trade_count", "cool_down", "latched", "no_calendar"), "Guards"),
}
# where a code is the venue's own, and nobody here can know it
OTHER = {
    "alarm": "Something needs you to look at it now. The sentence says what is still safe.",
    "caution": "Something is not as it should be; the sentence says what Hawser does about it.",
    "refused": "What was asked was not done, and nothing was changed. The sentence says why.",
    "info": "Hawser tells what it did.",
}
REJECTED = (
    "The venue did not take the order, for the reason in the sentence. For a stop Hawser tries "
    "again every quarter of a second, and closes the trade where it cannot be covered in time."
)


def meaning(code: str, weight: str, text: str) -> Topic:
    """What a line means; `text` is the line itself, which stands above it."""
    what = MEANINGS.get(code)
    if what is None:
        what = REJECTED if code.startswith("rejected_") else OTHER.get(weight, OTHER["info"])
    return Topic(text, what, chapter=CHAPTERS.get(code, FAULTS if weight == "alarm" else ""))
