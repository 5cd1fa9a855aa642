# Completes frugal in PowerShell: dot-source this file in $PROFILE.
Register-ArgumentCompleter -Native -CommandName frugal -ScriptBlock {
    param($typed, $line, $position)
    $words = @($line.CommandElements | Select-Object -Skip 1 | ForEach-Object { "$_" })
    if ($typed -ne '') { $words = @($words | Select-Object -SkipLast 1) }
    frugal words line "=$typed" @words 2>$null | ForEach-Object {
        $text = if ($_ -match '\s') { '"' + $_ + '"' } else { $_ }
        [System.Management.Automation.CompletionResult]::new($text, $_, 'ParameterValue', $_)
    }
}
