"""What the numbers in a program mean: shared by the compiler of programs and the compiled
drivers.
"""

from __future__ import annotations

#: Columns of the table of operations: what is done, where blocks begin, sizes, where parameters
#: begin, the geometry of windows and pools, which layer with weights it is, where its random words
#: begin, and whether it is the first.
(KIND, IN, OUT, SUM, SCALED, SPREAD, WINDOWS, SKIP, WHICH, UNITS, FAN, POSITIONS, NUMBERS, WEIGHTS,
 BIASES, NORM_SCALES, KEPT, ACTIVATION, NORM, CHANNELS, HEIGHT, WIDTH, SIZE, STRIDE, TOP, LEFT,
 TALL, WIDE, LAYER, WORDS, FIRST, CURVE, SLOPE) = range(33)
COLUMNS = 33
#: Kinds of operations.
DENSE, CONV, MAX_POOL, MEAN_POOL = range(4)
#: Normalisations.
NO_NORM, BATCH_NORM, LAYER_NORM = range(3)
#: Activations; those from LEAKY_RELU on are worked out from the sums, which are kept.
RELU, TANH, IDENTITY, LEAKY_RELU, ELU, GELU, SILU, SIGMOID, SOFTPLUS = range(9)
#: Losses, and what amounts are trained on.
SOFTMAX, BINARY, SQUARED, LOGARITHMIC = range(4)
BY_SQUARED, BY_ABSOLUTE, BY_HUBER = range(3)
#: Optimisers.
SGD, MOMENTUM, NESTEROV, ADAGRAD, ADADELTA, RMSPROP, ADAM, NADAM, AMSGRAD, LION, LAMB = range(11)
#: Whole numbers of a program.
(INPUTS, INPUT, INPUT_CHANNELS, OUTPUT, OUTPUTS, LOSS, TRAINED_ON, OPTIMISER, BATCH, PARAMETERS,
 WEIGHT_COUNT, TRAINED, STEP_WORDS, GATHERED, VARIED, IMAGE_HEIGHT, IMAGE_WIDTH, IMAGE_CHANNELS,
 CALLED_STEP, CALLED_LOSS) = range(20)
WHOLE_NUMBERS = 20
#: The number of every member that an installed package brings: it is called by its address, which
#: stands in a column or number of its own.
CALLED = 99
#: Real numbers of a program; 0 switches each off.
SMOOTH, HUBER, L1, CLIP_NORM, CLIP_VALUE, MAX_NORM, NOISE, AVERAGING, MIXING = range(9)
#: How pictures are varied.
SHIFT, FLIP, CONTRAST, ERASE, CROP = range(5)
#: Keys of an epoch.
DROPOUT_KEY, NOISE_KEY, PICTURE_KEY = range(3)
#: Rows evaluated at once, and numbers that they may take meanwhile: fewer rows of networks of large
#: pictures. Fixed, because the bits of a matrix product may depend on its number of columns.
EVALUATED, EVALUATED_ARENA = 256, 4_000_000
#: Epochs whose coefficients are worked out at once, and steps of them, at the most. Fixed for the
#: same reason.
EPOCHS_AHEAD, STEPS_AHEAD = 64, 4096
#: Dropout compares sixteen random bits with a threshold; its rate is therefore a multiple of
#: 1/65536.
DROPOUT_STEPS = 65536
#: Stretches of a run's state: an optimiser may use all but the last, which holds the running mean
#: of weights.
STATES = 4
#: Logarithms of amounts above this count as this: their squares still fit into a number.
LARGEST_LOG = 300.0
#: Added to a variance under the root of a normalisation, and the slope of a leaky ReLU below zero.
EPSILON, LEAK = 1e-5, 0.01
