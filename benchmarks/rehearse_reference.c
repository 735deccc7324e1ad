/* The same pass as the rehearsal's inner loop over one long trade after another: ATR stop, three targets, break-even, ATR
   trail, risk-percent sizing, pessimistic order. Written as plainly as C allows, and it writes down what the rehearsal
   writes down: trades, fills, stop moves, equity, excursions and the bars that depend on the order; see
   bench_rehearse.py, which compares them all. Prices in ticks. */
#include <math.h>
#include <stdint.h>

static double fl(double x) { double n = floor(x + 0.5), a = fabs(n) > 1 ? fabs(n) : 1, e = 1e-9 * a;
  if (e > 1e-6) e = 1e-6; return fabs(x - n) <= e ? n : floor(x); }
static int64_t lv(double x, int side) { return (int64_t)(side > 0 ? fl(x) : -fl(-x)); }

static int64_t fill(double *row, int64_t bar, int way, int what, int number, double price, int64_t steps) {
  row[0] = (double)bar; row[1] = way; row[2] = what; row[3] = number; row[4] = price; row[5] = (double)steps; return 1; }

/* Rows: trade (side, first, last, ref, stop, steps, best, worst, first fill, first move, dependent; risk, net), fill (bar,
   1 in or -1 out, what, number, price, steps), move (bar, level, why). Returns the number of trades. */
int64_t pass(int64_t n, const int64_t *o, const int64_t *h, const int64_t *l, const int64_t *c, const int64_t *s,
             const int64_t *sig, const double *atr, double tick_step, double fee_step, double percent, double *equity,
             int64_t *trade, double *money, double *fills, int64_t *moves, int64_t *written) {
  double cash = 64000.0; int64_t trades = 0, i = 0, nf = 0, nm = 0;
  while (i + 1 < n) {
    if (!sig[i] || isnan(atr[i])) { equity[i] = cash; i++; continue; }
    int side = sig[i]; int64_t e = i + 1, ref = side > 0 ? o[e] + s[e] : o[e];
    int64_t stop = lv(ref - side * 2.5 * atr[i], side), first_stop = stop, r = side * (ref - stop);
    int64_t steps = r > 2 ? (int64_t)floor(percent / 100 * cash / (r * tick_step + 2 * fee_step)) : 0;
    equity[i] = cash;
    if (steps < 1) { i++; continue; }
    int64_t t[3] = { lv(ref + side * 1.0 * r, side), lv(ref + side * 2.0 * r, side), lv(ref + side * 4.0 * r, side) };
    int64_t p1 = (int64_t)fl(0.4 * steps), p2 = (int64_t)fl(0.7 * steps), part[3] = { p1, p2 - p1, steps - p2 };
    int64_t left = steps, best = side * (side > 0 ? o[e] : o[e] + s[e]), worst = best, f0 = nf, m0 = nm, depends = 0;
    double flow = -(double)side * ref * steps, before = cash;
    cash -= fee_step * steps;
    nf += fill(fills + 6 * nf, e, 1, 0, 0, ref, steps);
    for (i = e; i < n; i++) {
      int64_t x = side > 0 ? 0 : s[i], mo = side * (o[i] + x), mc = side * (c[i] + x);
      int64_t mh = side > 0 ? h[i] : -(l[i] + x), ml = side > 0 ? l[i] : -(h[i] + x), ms = side * stop;
      int reached = 0; /* targets after the open, which another order would have filled before the stop */
      for (int k = 0; k < 3; k++) reached += part[k] && mh >= side * t[k] && mo < side * t[k];
      depends += ml <= ms && mo > ms && reached;
      for (int phase = 0; phase < 2 && left; phase++) { /* what the open triggers, then what the bar does */
        int64_t low = phase ? ml : mo, high = phase ? mh : mo;
        if (low <= ms) { int64_t at = mo < ms ? mo : ms; flow += (double)at * left; cash -= fee_step * left;
          nf += fill(fills + 6 * nf, i, -1, 0, 0, (double)side * at, left); left = 0;
          if (at > best) best = at; if (at < worst) worst = at; }
        for (int k = 0; k < 3; k++) if (part[k] && high >= side * t[k] && left) {
          int64_t take = part[k] < left ? part[k] : left, at = mo > side * t[k] ? mo : side * t[k];
          flow += (double)at * take; left -= take; cash -= fee_step * take; part[k] = 0;
          nf += fill(fills + 6 * nf, i, -1, 1, k + 1, (double)side * at, take);
          if (!left && at > best) best = at; }
      }
      if (!left) { cash += flow * tick_step; equity[i] = cash; break; }
      if (mh > best) best = mh;
      if (ml < worst) worst = ml;
      equity[i] = cash + (flow + (double)mc * left) * tick_step;
      int64_t level = stop, ex = best - side * ref, near = mc - 3, why = -1;
      if (ex >= r) { int64_t b = side * ref; if (b < mc) { if (b > near) b = near;
        if (b > side * level) { level = side * b; why = 0; } } }
      int64_t tr = side * lv(side * (double)best - side * 3.0 * atr[i], side);
      if (tr < mc && tr - side * stop >= 1) { if (tr > near) tr = near; if (tr > side * level) { level = side * tr; why = 1; } }
      if (why >= 0 && i < n - 1) { moves[3 * nm] = i + 1; moves[3 * nm + 1] = level; moves[3 * nm + 2] = why; nm++; }
      stop = level;
    }
    int64_t row[11] = { side, e, i, ref, first_stop, steps, best, worst, f0, m0, depends };
    for (int k = 0; k < 11; k++) trade[11 * trades + k] = row[k];
    money[2 * trades] = r * tick_step * steps + 2 * fee_step * steps; money[2 * trades + 1] = cash - before;
    trades++;
  }
  while (i < n) equity[i++] = cash;
  written[0] = nf; written[1] = nm;
  return trades;
}
