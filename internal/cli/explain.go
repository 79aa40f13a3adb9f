package cli

import "github.com/spf13/cobra"

func (a *app) explainCommand() *cobra.Command { return &cobra.Command{Use: "explain"} }
func (a *app) initCommand() *cobra.Command    { return &cobra.Command{Use: "init"} }
func (a *app) demoCommand() *cobra.Command    { return &cobra.Command{Use: "demo"} }
