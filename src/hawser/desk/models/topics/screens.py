"""What stands on the screens: every figure, field and column by a short name of its own."""

from __future__ import annotations

from hawser.desk.models.topics.topic import Topic

MONEY = "the account's currency"
OF_EQUITY = "% of equity"

WINDOW = {
    "equity": Topic(
        "Equity",
        "What the account is worth now: its balance and what open trades have won or lost so far.",
        MONEY,
        "balance 64 000, open trades +210.40: equity 64 210.40 CHF",
        "One size, step by step",
    ),
    "today": Topic(
        "Today",
        "The result since the day began, in R and in money. R counts trades that are open and "
        "those that ended today; the money is the change of equity.",
        f"R, and {MONEY}",
        "+0.8 R and +307.20 CHF: a little less than one planned risk was won",
    ),
    "heat": Topic(
        "Heat",
        "What is lost from the entries if every stop is hit now, costs included. The bar shows it "
        "against the limit of your policy. Enter or a click shows what each stop would cost.",
        OF_EQUITY,
        "three trades that risk 200 CHF each: heat 600 CHF, 0.93 % of 64 210",
        "Heat",
    ),
    "protection": Topic(
        "Protection",
        "Whether stops that rest at the venue cover all that is open. Exposed: a part has no stop "
        "there yet. Foreign: a position that Hawser did not open. On backstop: held lines that "
        "nobody watches while the link is lost. Waiting: entries that have not filled.",
        "trades",
        "all 4 protected",
        "What happens when",
    ),
    "entries": Topic(
        "Entries",
        "Whether a new trade may be opened now. CLOSED shows the guard that lasts longest, and how "
        "many close entries. Exits and tighter stops are always possible.",
        "",
        "CLOSED by 2: high news in 4 min",
        "Guards",
    ),
    "flatten": Topic(
        "Flatten & halt",
        "Cancels all that waits, closes every trade at market, and keeps entries closed until you "
        "re-arm with a reason. Hold the button, or Ctrl+Shift+End anywhere, for half a second.",
        "",
        "4 trades open: 4 closes are sent, and entries stay closed, also after a restart",
        "What happens when",
    ),
    "rearm": Topic(
        "Re-arm entries",
        "After a halt entries stay closed until you write why it is safe to trade again. The "
        "reason stands in the Logbook.",
        "",
        "the venue is back, all positions looked at",
        "What happens when",
    ),
    "speed": Topic(
        "Speed",
        "How many times as fast the simulated venue's clock runs. Pause stops it. A real venue has "
        "no such choice.",
        "times",
        "\u00d760: an hour of the market in a minute",
        "What happens when",
    ),
    "weather": Topic(
        "Weather",
        "The faults that the simulated venue makes on purpose: refusals, silence, lost lines. "
        "'faults' opens each of them with its chance.",
        "",
        "gale: worse than any venue should be",
        "What happens when",
    ),
    "clock": Topic(
        "The venue's clock",
        "The time at the venue, in your own zone. Hawser keeps its deadlines by its own clock.",
        "date and time, with the zone",
        "Wed 05 Mar 2031 14:52:00 CET",
        "The venue's clock is wrong",
    ),
    "link": Topic(
        "Link",
        "Whether the line to the venue stands, and how many unexpected errors have been written "
        "down.",
        "",
        "LINK DOWN: stops at the venue still protect, entries wait",
        "The link is lost",
    ),
    "account": Topic(
        "Account",
        "One of several accounts, each with its own venue, policy and record. A click, or Ctrl "
        "with its number, brings it into view; all of them are tended.",
        "",
        "second: 0.42 % heat, 1 protected",
    ),
    "seed": Topic(
        "Seed of the weather",
        "The number that the simulated faults are drawn from. The same seed makes the same storm.",
        "",
        "17",
        "What happens when",
    ),
    "heat_table": Topic(
        "Heat, taken apart",
        "A row for each trade: what its stop would cost, and what a stop beyond the entry has "
        "locked in. Locked profit never makes the heat of another trade smaller. Below stand the "
        "sums, and what is exposed to each currency.",
        f"{MONEY}, and {OF_EQUITY}",
        "short 2.9 Harbour 40: 210 CHF, 0.33 % of equity",
        "Heat",
    ),
    "heat_units": Topic("Units", "How much is open of the trade.", "units", "2.9", "Heat"),
    "heat_stop": Topic(
        "Stop", "Where the stop rests at the venue now.", "price", "0.60901", "Heat"
    ),
    "heat_money": Topic(
        "Heat of a trade",
        "What is lost from the entry if this stop is hit, costs included.",
        MONEY,
        "210.40 CHF",
        "Heat",
    ),
    "heat_share": Topic(
        "Heat of equity", "The same as a share of equity.", OF_EQUITY, "0.33 %", "Heat"
    ),
    "heat_locked": Topic(
        "Locked",
        "What a stop beyond the entry wins at least. It never makes the heat of another trade "
        "smaller.",
        MONEY,
        "63.36 CHF",
        "Heat",
    ),
    "finder": Topic(
        "Command finder",
        "Everything Hawser can do, found by the beginnings of words, and what is written about it "
        "in the help.",
        "",
        "'plan rig bar' finds 'Plan with rig Bar by bar'",
    ),
}

HELM = {
    "instrument": Topic(
        "Instrument and entries",
        "What can be traded here, and below it whether an entry may be made: open, closed, or open "
        "until the news that comes next.",
        "",
        "opens 15:00",
        "Guards",
    ),
    "bid_ask": Topic(
        "Bid and ask",
        "The price at which you can sell now, above, and the price at which you can buy, below. A "
        "long leaves at the bid, a short at the ask.",
        "price, in the instrument's quote currency",
        "bid 0.61110, ask 0.61119",
    ),
    "spread_atr": Topic(
        "Spread and ATR",
        "Above: the ask less the bid. Below: the average true range of the chart's bars, how far a "
        "bar usually reaches.",
        "ticks (t), and price",
        "9 t and 0.00084",
    ),
    "timeframe": Topic(
        "Timeframe",
        "The length of the chart's bars. The ATR, the trail and all else that a plan decides at a "
        "bar's close go by these bars, unless its rig names others.",
        "m: minutes, h: hours, d: days",
        "15m",
    ),
    "chart": Topic(
        "Chart",
        "Bid prices as bars: outlined where they rose, filled where they fell. Lines are the "
        "levels of the plan or of the chosen trade: drag one, and the reckoning answers. Marks at "
        "the foot are news, the ribbon below is the spread.",
        "price; the time is your own zone's",
        "Left and Right move the chart, + and \u2212 change how much is shown",
        "On open trades",
    ),
    "readout": Topic(
        "The bar's figures",
        "Open, high, low and close of the bar under the pointer, else of the newest, in bid "
        'prices. After them its spread, and behind "of" the widest spread your guards allow.',
        "price; t (ticks)",
        "O 0.64386 H 0.64391 L 0.64330 C 0.64350 spread 9 of 22 t",
    ),
    "tended": Topic(
        "What tends the trade",
        "The rig of the chosen trade, and its rules that wait for something else than a price.",
        "",
        "Slow harbour: time exit in 12 bars",
        "A rig on the Helm",
    ),
    "sums": Topic(
        "Heat and locked, of all",
        "What all stops together would lose from the entries, and what stops beyond the entry have "
        "locked in.",
        MONEY,
        "heat 602.84 CHF, locked 63.36 CHF",
        "Heat",
    ),
    "r_scale": Topic(
        "R scale",
        "The levels of the plan, or of the chosen trade, measured in R: 0 at the entry, \u22121 at "
        "the stop, targets where they stand. The pointer is the price now, the band is the spread.",
        "R: the distance from entry to stop",
        "a target at 1.5 R wins one and a half times what the stop loses",
        "Targets and trail",
    ),
    "trade": Topic(
        "Open trade",
        "One trade on an R axis that all rows share: where its stop began and stands now, the "
        "entry, the price, targets taken and to come. What a stop has locked in is hatched. Right: "
        "the result, and whether stops cover it.",
        f"R, and {MONEY}",
        "+1.58 R, +242.10 CHF, protected",
        "On open trades",
    ),
    "marked": Topic(
        "Marked trades",
        "Trades that are marked (Space, Ctrl+click or the box at the left) are acted on together; "
        "M opens what can be done.",
        "trades",
        "2 marked: both get a basket",
        "On open trades",
    ),
    "plan_name": Topic(
        "Plan by name",
        "A plan is saved under a name and taken back by choosing it. It keeps what was typed, so "
        "it fits any instrument.",
        "",
        "Harbour morning",
        "Plans by name",
    ),
    "side": Topic(
        "Long or short",
        "A long wins when the price rises, a short when it falls.",
        "",
        "long: buy now, sell later",
        "How to enter",
    ),
    "rig": Topic(
        "Rig",
        "What tends the trade: a saved set of stop, targets, trail and the rest. Its values stand "
        "in the fields below and may be changed for this trade alone.",
        "",
        "Slow harbour",
        "Rigs",
    ),
    "entry": Topic(
        "Entry",
        "How the trade is entered: at market, or by an order that waits at a level. 'market within "
        "5 t' refuses what would fill worse; 'stop 0.61500 within 8 t' is a stop-limit. 'straddle "
        "1 atr' lays a buy stop above and a sell stop below, and one cancels the other.",
        "a price, or ATR",
        "market, limit 0.61100, stop 0.61500, limit 0.5 atr",
        "How to enter",
    ),
    "good": Topic(
        "Waits until",
        "How long an entry that waits stays at the venue: until you cancel it, for a time, until a "
        "time of day (UTC), or until the session ends.",
        "min, h, or a time of day in UTC",
        "cancelled, 30 min, 14:30, session end",
        "How to enter",
    ),
    "held": Topic(
        "Held lines, backstop",
        "Empty: stop and targets rest at the venue. A number of R: Hawser keeps them, and only a "
        "wider backstop rests there. 'settle 500 ms' also waits that long for a spread spike to "
        "pass.",
        "R, more than 1",
        "2 R, settle 500 ms",
        "Held lines",
    ),
    "anchor": Topic(
        "Where a fill is off",
        "What stop and targets do when the entry fills at another price than planned: keep the "
        "planned levels, or move along by the same distance.",
        "",
        "filled 3 t higher, 'move lines along': the stop goes 3 t higher too",
        "Brackets",
    ),
    "more_fields": Topic(
        "More",
        "Shows the fields for held lines and for what happens where a fill is off.",
        "",
        "",
        "Held lines",
    ),
    "risk": Topic(
        "Size",
        "How large the trade is. As a risk, which is what is lost at the stop, costs included: 0.6 "
        "%, 0.6 % of balance, 0.6 % of free margin, 385 CHF. As a quantity: 2 units. As a "
        "notional: 20 % notional. By volatility: 1 % per 2.5 atr. As an amount: invest 5000 risk "
        "150 CHF.",
        "%, units, or money",
        "0.6 %",
        "What may be typed as the size",
    ),
    "stop": Topic(
        "Stop",
        "Where the trade is wrong. A distance, a price, or a level of the bars: 3 bars (their "
        "extreme), pivot 2 3, sma 20, ema 20, channel 20, supertrend 10 3, parabolic; each of "
        "these also with an offset, as 3 bars + 2 t. With a fixed quantity also money. Or drag its "
        "line.",
        "ATR, %, t (ticks), or a price",
        "2.5 atr, 0.8 %, 46 t, 0.60890",
        "What may be typed as the stop",
    ),
    "trail": Topic(
        "Trail",
        "The stop follows the market at each completed bar, and only ever gets tighter. Empty: it "
        "stays where it is.",
        "ATR, t (ticks), %, or bars",
        "3 atr, 20 t, 3 bars, ema 20, supertrend 10 3, parabolic",
        "Targets and trail",
    ),
    "target": Topic(
        "Target",
        "Where a part of the position is closed with a profit. Its order rests at the venue.",
        "R, ATR, %, t (ticks), or a price",
        "1.5 R",
        "Targets and trail",
    ),
    "share": Topic(
        "Share of a target",
        "How much of the position this target takes. 'rest': all that is left.",
        "% of the position",
        "40 %",
        "Targets and trail",
    ),
    "also": Topic(
        "Place on other accounts",
        "The same plan at the same moment in further accounts, each sized by its own equity.",
        "",
        "second: 0.85 units",
    ),
    "quantity": Topic(
        "Quantity and risk",
        "What the plan buys or sells now, and what is lost if its stop is hit, costs included.",
        f"units, {MONEY} and % of the size's basis",
        "2.00 units, 384.90 CHF = 0.599 %",
        "One size, step by step",
    ),
    "place": Topic(
        "Place",
        "Sends the entry. Its stop follows with the first fill: the trade is exposed until the "
        "stop rests at the venue, then protected.",
        "",
        "Ctrl+Enter does the same",
        "Brackets",
    ),
    "what_if": Topic(
        "What if",
        "How quantity and share of equity change with the stop's distance while the risk stays, or "
        "how the risk changes while the quantity stays. Drag the point, or use Left and Right.",
        "units, or money, over ticks",
        "twice the distance: half the quantity",
        "What if",
    ),
    "locked": Topic(
        "What stays",
        "Which of the two you keep while the stop moves: the money at risk, or the quantity.",
        "",
        "the risk stays",
        "What if",
    ),
    "position": Topic(
        "Foreign position",
        "A position at the venue that Hawser did not open. Nothing of Hawser's protects it until "
        "you adopt it.",
        "",
        "Adopt makes a trade of it, with a stop at once",
        "What happens when",
    ),
}

RECKONING = {
    "step_budget": Topic(
        "The size's start",
        "What the size is made from: the money that may be lost, or the quantity itself.",
        MONEY,
        "equity 64 210 \u00d7 0.6 % = 385.26 CHF",
        "One size, step by step",
    ),
    "step_stop": Topic(
        "Stop level",
        "Where the stop lies, rounded to the tick, and what it was taken from.",
        "price",
        "stop 2.5 \u00d7 ATR 0.00084: 0.60901",
        "What may be typed as the stop",
    ),
    "step_r": Topic(
        "R, entry to stop",
        "The distance from the expected entry to the stop. It is the trade's measure: all else is "
        "told as a multiple of it.",
        "t (ticks)",
        "210 t",
        "One size, step by step",
    ),
    "step_tick_value": Topic(
        "Value of a tick",
        "What one unit wins or loses when the price moves by one tick.",
        MONEY,
        "1 tick \u00d7 1 unit = 1 CHF",
        "One size, step by step",
    ),
    "step_rate": Topic(
        "Conversion rate",
        "The rate that turns the instrument's currency into the account's, and how old it is.",
        "account currency for one of the other",
        "1 EUR in CHF, 2 s old: 0.94",
        "One size, step by step",
    ),
    "step_slippage": Topic(
        "Expected slippage",
        "How much worse entry and exit are expected to fill, as the account's costs say.",
        "t (ticks), both together",
        "2 t",
        "One size, step by step",
    ),
    "step_fees": Topic(
        "Commission, in and out",
        "What the venue takes for the entry and the exit of this quantity.",
        MONEY,
        "7.00 CHF",
        "One size, step by step",
    ),
    "step_unit_risk": Topic(
        "Risk of one unit",
        "What one unit loses at the stop, slippage and commission included.",
        MONEY,
        "(210 t + 2 t) \u00d7 1 CHF + 3.50 CHF",
        "One size, step by step",
    ),
    "step_quotient": Topic(
        "Exact quantity",
        "The money that may be lost, divided by the risk of one unit.",
        "units",
        "385.26 \u00f7 215.50 = 1.7877 units",
        "One size, step by step",
    ),
    "step_step": Topic(
        "Down to the step",
        "The quantity is rounded down to what may be traded, so that the risk is never more than "
        "asked.",
        "units",
        "1.7877 becomes 1.78",
        "One size, step by step",
    ),
    "step_cap": Topic(
        "Cut by a cap",
        "A limit of your policy or of the instrument made the quantity smaller.",
        "units",
        "cut by max heat: 1.20 units",
        "Caps",
    ),
    "step_rung": Topic(
        "Rung",
        "One addition of an averaging ladder: at what level, and how much.",
        "units",
        "rung 2 at 0.60820: 0.45 units",
        "A ladder",
    ),
    "step_rung_average": Topic(
        "Average entry after a rung",
        "The average price once this rung has filled, and where all of it leaves with a profit "
        "then.",
        "price",
        "average 0.60951, out at 0.61031",
        "A ladder",
    ),
    "step_rung_stopped": Topic(
        "Stopped after a rung",
        "What is lost if the common stop is hit after this rung has filled, costs included.",
        MONEY,
        "\u2212212.40 CHF",
        "A ladder",
    ),
    "step_notional": Topic(
        "Notional",
        "What the position is worth: quantity \u00d7 price \u00d7 multiplier, and that as a share "
        "of equity.",
        f"{MONEY}, and {OF_EQUITY}",
        "108 700 CHF, 169 % of equity",
        "Caps",
    ),
    "step_margin": Topic(
        "Margin",
        "The money that the venue sets aside for the position.",
        MONEY,
        "5 435 CHF at a margin rate of 0.05",
        "Caps",
    ),
    "step_spread": Topic(
        "Spread of R",
        "How much of R the spread alone takes. Where it is large, the trade begins with a loss.",
        "% of R",
        "spread 9 t: 4.3 % of R",
        "Across",
    ),
    "step_target": Topic(
        "Target in money",
        "What this target takes, and what it wins after costs. A target too small for the step is "
        "merged into the next.",
        MONEY,
        "target 1, 0.71 at 0.61300: +127.80 CHF",
        "Targets and trail",
    ),
}

ACROSS = {
    "across": Topic(
        "Across",
        "The plan sized for every instrument at once, each at the same risk. Enter takes a row "
        "into the plan; a click on a head sorts.",
        "",
        "6 of 8 can be placed now",
        "Across",
    ),
    "across_instrument": Topic("Instrument", "What the row is about.", "", "CAD/CHF", "Across"),
    "across_entries": Topic(
        "Entries",
        "Whether this plan may enter the instrument now.",
        "",
        "open",
        "Guards",
    ),
    "across_atr": Topic(
        "ATR", "The average true range of the chart's bars.", "price", "0.00084", "Across"
    ),
    "across_atr_percent": Topic(
        "ATR of price",
        "The ATR as a share of the price: how lively instruments are, compared.",
        "% of price",
        "0.14 %",
        "Across",
    ),
    "across_r_ticks": Topic(
        "R", "The distance from entry to stop there.", "t (ticks)", "210 t", "Across"
    ),
    "across_qty": Topic(
        "Quantity", "What the plan would buy or sell there.", "units", "1.78", "Across"
    ),
    "across_risk": Topic(
        "At risk",
        "What would be lost at the stop, costs included.",
        MONEY,
        "383.60 CHF",
        "Across",
    ),
    "across_notional": Topic(
        "Notional", "What the position would be worth.", MONEY, "108 700 CHF", "Across"
    ),
    "across_equity_percent": Topic(
        "Of equity", "The notional as a share of equity.", OF_EQUITY, "169 %", "Across"
    ),
    "across_margin": Topic(
        "Margin",
        "The money that the venue would set aside.",
        MONEY,
        "5 435 CHF",
        "Across",
    ),
    "across_spread_percent_of_r": Topic(
        "Spread of R",
        "How much of R the spread takes now; 15 % and more is shown as dear.",
        "% of R",
        "4.3 %",
        "Across",
    ),
    "across_verdict": Topic(
        "Verdict",
        "Whether the plan can be placed there now, and if not, why.",
        "",
        "below minimum",
        "Across",
    ),
    "across_filter": Topic(
        "Filter",
        "Shows the rows in which these letters stand, in any column.",
        "",
        "chf",
        "Across",
    ),
}

GUARDS = {
    "guard": Topic(
        "Guard",
        "What it watches, its present figure against its limit, and its state. In a gauge, used is "
        "filled, what open stops could still use is hatched, and the rest is free.",
        "as each guard says",
        "Day loss 0.01 % of 2.50 %, open",
        "Guards",
    ),
    "drill": Topic(
        "Drill",
        "Sets the guard off on purpose, to see that it works. The first press says what would "
        "follow, a second one does it. Where your own money is, a drill only watches.",
        "",
        "Day loss would close 4 trades and entries until tomorrow",
        "Drills",
    ),
    "watch_only": Topic(
        "Watch only",
        "A drill tells what would follow and does nothing.",
        "",
        "on",
        "Drills",
    ),
    "guard_rearm": Topic(
        "Re-arm a guard",
        "Lets a kill switch begin to count again, with your reason. It can be refused while its "
        "limit is still broken, or before its pause is over.",
        "",
        "the loss was planned; one more trade today",
        "Re-arming",
    ),
    "happening": Topic(
        "Make it happen",
        "Makes the event itself at the simulated venue: news, a wide spread, a feed that falls "
        "silent. Guards then act as they would on the real one.",
        "",
        "Spread \u00d73 for 20 s",
        "Drills",
    ),
    "closing_next": Topic(
        "Closing next",
        "What closes entries next, in which instruments and until when, counting down, and what "
        "Hawser does then. Below: how far the news is known, and changes that wait.",
        "hours and minutes",
        "12:03, CAD/CHF, high news 14:55 to 15:25",
        "Guards",
    ),
    "day": Topic(
        "The next 24 hours",
        "A line for each instrument: its hours in outline, news and closed hours filled or "
        "hatched, the present as a line.",
        "your own zone's time",
        "news 14:45, entries closed 14:35 to 15:05",
        "Guards",
    ),
    "policy_text": Topic(
        "The policy as text",
        "All guards, the news and the zone as one TOML file. Comments in it stay.",
        "",
        'kind = "loss"',
        "The policy",
    ),
    "alert_box": Topic(
        "Which events alert, and how",
        "A tick sends this event by this way. Each way can be tried with one click.",
        "",
        "alarms: by sound and by mail",
        "Alerts",
    ),
    "alerts_a_minute": Topic(
        "Most alerts a minute",
        "Mail and webhook send no more than this; what is above it is sent together.",
        "alerts",
        "6",
        "Alerts",
    ),
    "watch": Topic(
        "Dead man's watch",
        "A small separate process that looks for Hawser's sign of life. It goes on when Hawser is "
        "killed.",
        "",
        "on",
        "The dead man's watch",
    ),
    "watch_silence": Topic(
        "Silence before the watch acts",
        "How long Hawser may give no sign of life while positions are open.",
        "s",
        "20",
        "The dead man's watch",
    ),
    "watch_flatten": Topic(
        "What the watch does",
        "On: it cancels every order and closes every position at the venue. Off: it only alerts.",
        "",
        "off",
        "The dead man's watch",
    ),
}

SIGNALS = {
    "chart_lines": Topic(
        "Lines over the bars",
        "Averages, bands, channels, a supertrend or a parabolic stop over the bars, an RSI or an "
        "ATR below them, and where a source enters and leaves. Chosen for each instrument, and "
        "kept.",
        "",
        "the exponential average of 20 closes",
        "Lines on the chart",
    ),
    "source_list": Topic(
        "Sources",
        "The sources there are, and what each goes by in short. A source says when to enter and "
        "when to leave early; a rig says how the trade is protected.",
        "",
        "Ebb and flow: a crossing",
        "Sources",
    ),
    "source_name": Topic(
        "Name of the source",
        "What the source is called. Two sources have two names.",
        "",
        "Ebb and flow",
        "Sources",
    ),
    "source_note": Topic(
        "What the source is for",
        "A sentence of your own: what the source does, and in what market it fails.",
        "",
        "Fails in a market that goes sideways",
        "Sources",
    ),
    "source_chart": Topic(
        "The source on the bars",
        "Triangles stand where it enters and point the way of the trade; crosses stand where it "
        "leaves. Its lines are named above; those of another measure have a strip below. "
        "Point at a bar, or press Left and Right, to see why. N goes to the next signal, P to the "
        "one before.",
        "",
        "a triangle below a bar: it enters long at the open of the next one",
        "The Signals station",
    ),
    "source_counts": Topic(
        "Signals",
        "How often the source enters over all bars, and what is odd about it.",
        "signals",
        "71 long, 71 short over 5 406 bars",
        "The Signals station",
    ),
    "source_beside": Topic(
        "Another source beside this one",
        "Its entries are hollow marks on the bars, and what followed them is drawn below what "
        "followed those of this source.",
        "",
        "Weathercock",
        "The Signals station",
    ),
    "source_reasons": Topic(
        "Why",
        "Every condition at the bar that you point at, with its figures. A filled triangle means "
        "that the condition holds, a hollow one that it does not; up is long, down is short, and a "
        "square is one answer for both.",
        "",
        "close 0.6112 (1 bar before 0.6104)",
        "The Signals station",
    ),
    "source_followed": Topic(
        "What followed",
        "How far prices went after the signals, in ATR, counted in the direction of the trade: a "
        "bar from the mean of the worst to the mean of the best moment on the way, with the mean "
        "result as a thick line. Behind it, hatched, the same after all bars. Luck: of 5 000 tries "
        "that enter as often at random, the part that does at least as well.",
        "ATR",
        "+0.57 ATR after 5 bars, luck 3.0 %",
        "What followed",
    ),
}

RIGS = {
    "rig_list": Topic(
        "Rigs",
        "The rigs there are, what each holds in short, and how many open trades it tends.",
        "trades",
        "Bar by bar, 2 trades",
        "Rigs",
    ),
    "rig_name": Topic(
        "Name of the rig", "How it is called in plans and files.", "", "Slow harbour", "Rigs"
    ),
    "rig_note": Topic(
        "What the rig is for", "A note in your own words.", "", "for slow mornings", "Rigs"
    ),
    "trial": Topic(
        "Trial",
        "What the rig would have done with a trade that begins at the bar you click: the stop's "
        "path, parts taken, and the end. Left and Right move the bar, L and S choose the side.",
        "R",
        "+1.4 R after 31 bars, by the trail",
        "The trial and the fan",
    ),
    "trial_side": Topic(
        "Side of the trial",
        "Whether the trial's trade is long or short.",
        "",
        "long",
        "The trial and the fan",
    ),
    "beside": Topic(
        "Another rig beside this one",
        "A second rig is tried on the same bars, so that the two can be compared.",
        "",
        "Bar by bar",
        "The trial and the fan",
    ),
    "fan": Topic(
        "Fan of 500",
        "The same rig tried from 500 bars drawn by chance: a dot for each result in R, the mean, "
        "and what ended the trades. It shows what the rig does, not how good your entries are.",
        "R",
        "mean +0.05 R; stop 58 % at \u22120.98 R",
        "The trial and the fan",
    ),
    "fan_again": Topic(
        "Again", "Draws another 500 bars by chance.", "bars", "500", "The trial and the fan"
    ),
}

LOGBOOK = {
    "log_time": Topic(
        "Time",
        "When it happened, by the venue's clock.",
        "your own zone; ms at the end",
        "2031-03-05 14:07:12.250",
    ),
    "log_kind": Topic(
        "Kind",
        "Asked: you wanted it. Decided: Hawser did. Sent: it left for the venue. Venue: what the "
        "venue said. Market, timer and session: what else came in.",
        "",
        "decided",
    ),
    "log_trade": Topic("Trade", "The trade that the line belongs to.", "", "t12"),
    "log_symbol": Topic("Instrument", "The instrument that the line is about.", "", "CAD/CHF"),
    "log_text": Topic(
        "What happened",
        "One sentence with its reason. F1, or the menu of the line, says what it means.",
        "",
        "Stop moved to 0.61110 by break-even after target 1",
    ),
    "log_words": Topic(
        "Words",
        "Shows the lines in which these letters stand.",
        "",
        "slippage",
    ),
    "log_quiet": Topic(
        "Timers and bars",
        "Shows what comes all the time too: timers that fire and bars that complete.",
        "",
        "off",
    ),
    "log_follow": Topic("Follow the newest", "Keeps the newest line in view.", "", "on"),
}

BEGINNING = {
    "instrument_kind": Topic(
        "What is it?",
        "The kind of instrument. It proposes the multiplier and the steps, which you can change.",
        "",
        "a currency pair",
        "The first start",
    ),
}

SCREENS: dict[str, Topic] = {
    **WINDOW,
    **HELM,
    **RECKONING,
    **ACROSS,
    **GUARDS,
    **SIGNALS,
    **RIGS,
    **LOGBOOK,
    **BEGINNING,
}
BY_STATION = {
    "The first start": BEGINNING,
    "The window": WINDOW,
    "Helm": HELM,
    "The reckoning": RECKONING,
    "Across": ACROSS,
    "Signals": SIGNALS,
    "Rigs": RIGS,
    "Guards": GUARDS,
    "Logbook": LOGBOOK,
}
