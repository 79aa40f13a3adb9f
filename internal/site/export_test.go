package site

// ChangeStep is changeStep, for tests whose places date changes in the same steps.
var ChangeStep = changeStep

// AtOnce is atOnce.
const AtOnce = atOnce

// SinglesAtOnce is singlesAtOnce.
const SinglesAtOnce = singlesAtOnce
