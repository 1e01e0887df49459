// Package cycle is the one way a job goes: survey, plan, check, approve, run, prove. Whoever
// begins it says by a policy what may go on by itself; what a guard or a check holds back
// stops here. It never decides what a plan does.
package cycle
