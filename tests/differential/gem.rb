# Answers pairs of a RubyGems requirement and a version with RubyGems itself.
require 'json'
require 'rubygems'

answers = JSON.parse($stdin.read).map do |constraint, version|
  Gem::Requirement.new(constraint.split(',')).satisfied_by?(Gem::Version.new(version))
rescue ArgumentError, Gem::Requirement::BadRequirementError
  nil
end
puts JSON.generate(answers)
