/* The columns of one source over a history, as plain C writes them: an EMA that crosses an SMA, the close beyond a
   band, and leaving where the bars before are broken. What `bench_sources.py` compares with. */
#include <math.h>
#include <stdlib.h>

static int over(double x, double y) { return x - y > 1e-10 * fmax(fabs(x), fabs(y)); }

static void extreme(const double *values, long n, int length, double sign, double *out, long *places)
{
    long start = 0, behind = 0;
    for (long i = 0; i < n; i++) {
        double value = sign * values[i];
        while (behind > start && sign * values[places[behind - 1]] <= value) behind--;
        places[behind++] = i;
        if (places[start] <= i - length) start++;
        out[i] = i >= length - 1 ? values[places[start]] : NAN;
    }
}

void columns(const double *high, const double *low, const double *close, long n, int fast, int slow, int band,
             double factor, int back, signed char *signal, signed char *leave)
{
    double *ema = malloc(n * sizeof *ema), *sma = malloc(n * sizeof *sma), *up = malloc(n * sizeof *up),
           *down = malloc(n * sizeof *down), *top = malloc(n * sizeof *top), *bottom = malloc(n * sizeof *bottom);
    long *places = malloc(n * sizeof *places);
    double sum = 0.0, seed = 0.0, alpha = 2.0 / (fast + 1.0);
    for (long i = 0; i < n; i++) {
        if (i < fast) seed += close[i];
        ema[i] = i < fast - 1 ? NAN : i == fast - 1 ? seed / fast : ema[i - 1] + alpha * (close[i] - ema[i - 1]);
        sum += close[i] - (i >= slow ? close[i - slow] : 0.0);
        sma[i] = i < slow - 1 ? NAN : sum / slow;
    }
    for (long i = 0; i < n; i++) {
        if (i < band - 1) { up[i] = down[i] = NAN; continue; }
        double mean = 0.0, squares = 0.0;
        for (long j = i - band + 1; j <= i; j++) mean += close[j];
        mean /= band;
        for (long j = i - band + 1; j <= i; j++) squares += (close[j] - mean) * (close[j] - mean);
        double wide = factor * sqrt(squares / band);
        up[i] = mean + wide;
        down[i] = mean - wide;
    }
    extreme(high, n, back, 1.0, top, places);
    extreme(low, n, back, -1.0, bottom, places);
    for (long i = 0; i < n; i++) {
        int known = i > 0 && !isnan(sma[i - 1]) && !isnan(ema[i - 1]);
        int long_ = known && over(ema[i], sma[i]) && !over(ema[i - 1], sma[i - 1]);
        int short_ = known && over(sma[i], ema[i]) && !over(sma[i - 1], ema[i - 1]);
        int banded = !isnan(up[i]);
        long_ = long_ && banded && over(close[i], up[i]);
        short_ = short_ && banded && over(down[i], close[i]);
        signal[i] = (signed char)((long_ && !short_) - (short_ && !long_));
        int edges = i > 0 && !isnan(top[i - 1]) && !isnan(bottom[i - 1]);
        leave[i] = (signed char)((edges && over(close[i], top[i - 1])) - (edges && over(bottom[i - 1], close[i])));
    }
    free(ema); free(sma); free(up); free(down); free(top); free(bottom); free(places);
}
